// The picture's tools on the Trials page.
import { send, visit, withParam } from "./page.js";

const REST = 250; // milliseconds between two tellings of where the pointer is
const regionFields = () => {
  const { elements } = document.getElementById("trial");
  return [0, 1, 2, 3].map((i) => elements[`region_${i}`]);
};

document.addEventListener("alpine:init", () => {
  Alpine.data("viewertools", () => ({
    mode: "crop",
    zoom: "fit",
    wipe: 50,
    telling: false,
    get viewer() {
      return this.$root.querySelector("image-viewer");
    },
    get crop() {
      return String(this.mode === "crop");
    },
    get look() {
      return String(this.mode === "look");
    },
    get pan() {
      return String(this.mode === "pan");
    },
    get fit() {
      return String(this.zoom === "fit");
    },
    get actual() {
      return String(this.zoom === "1");
    },
    set(event) {
      const { mode, zoom } = event.currentTarget.dataset;
      if (mode) {
        this.mode = mode;
        this.viewer.mode = mode;
      }
      if (zoom) {
        this.zoom = zoom;
        this.viewer.setZoom(zoom);
      }
    },
    // A choice that belongs to the view: into the address.
    choose(event) {
      event.target.blur();
      visit(withParam(event.target.dataset.param, event.target.value));
    },
    // A place worth a look: at 1:1, as the crop of the next trial, and in the address.
    jump(event) {
      const region = event.currentTarget.dataset.place.split(",").map(Number);
      this.viewer.showPlace(region);
      this.zoom = "1";
      this.drawn({ detail: region });
    },
    // The pointer rests on a place that is to be refined first.
    async looked(event) {
      const button = this.$root.querySelector("[data-look]");
      if (!button || this.telling) return;
      this.telling = true;
      // The viewer counts in pixels of the next trial, the running one in its own.
      const own = button.dataset.lookSize.split(",").map(Number);
      const shown = this.viewer.size;
      const priority = event.detail.map((v, i) => (v * own[i]) / shown[i]);
      await send("PUT", button.dataset.look, { priority });
      setTimeout(() => {
        this.telling = false;
      }, REST);
    },
    slide(event) {
      this.wipe = Number(event.target.value);
      this.viewer.setWipe(this.wipe / 100);
    },
    wiped(event) {
      this.wipe = Math.round(event.detail * 100);
    },
    zoomed(event) {
      this.zoom = event.detail;
    },
    // A crop was drawn: into the fields and the address.
    drawn(event) {
      const region = event.detail;
      regionFields().forEach((field, i) => {
        field.value = region[i];
      });
      history.replaceState(null, "", withParam("region", region.join(",")));
      this.viewer.setAttribute("data-region", region.join(","));
    },
  }));
});
