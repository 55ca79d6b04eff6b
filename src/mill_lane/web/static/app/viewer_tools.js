// The picture's tools on the Trials page.
import { MaskBrush } from "./mask_brush.js";
import { complain, refresh, send, visit, withParam } from "./page.js";

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
    brush: 12, // pixels from the middle to the edge
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
    get paint() {
      return String(this.mode === "paint");
    },
    get erase() {
      return String(this.mode === "erase");
    },
    get pick() {
      return String(this.mode === "pick");
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
        this.takeBrush();
        this.viewer.draw();
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
    // The mask as it is kept, under the hand; a stroke that is under way goes on.
    async takeBrush() {
      const { viewer } = this;
      const { b } = viewer.pictures;
      if (!b || !(this.mode === "paint" || this.mode === "erase")) return;
      const brush = new MaskBrush(b.naturalWidth, b.naturalHeight);
      brush.radius = this.brush;
      if (viewer.dataset.mask) await brush.take(viewer.dataset.mask);
      if (viewer.held?.kind === "stroke") return;
      viewer.brush = brush;
      viewer.draw();
    },
    setBrush(event) {
      this.brush = Math.max(1, Number(event.target.value) || 1);
      if (this.viewer.brush) this.viewer.brush.radius = this.brush;
    },
    // A stroke is done: the mask is kept with it.
    async painted(event) {
      const tools = this.$root.querySelector("[data-mask-tools]");
      if (!tools) return;
      const answer = await fetch(`${tools.dataset.maskTools}?name=painted.png`, {
        method: "POST",
        headers: { "Content-Type": "application/octet-stream" },
        body: await event.detail.file(),
      }).catch(() => null);
      if (answer?.ok) await refresh();
      else complain(tools.parentElement, answer ? await answer.json().catch(() => ({})) : {});
    },
    // An object was pointed at: it is picked, or no more.
    async picked(event) {
      const tools = this.$root.querySelector("[data-object]");
      if (!tools) return;
      const [x, y] = event.detail;
      const { ok, data } = await send("GET", `${tools.dataset.object}?x=${x}&y=${y}`);
      if (!ok) complain(tools.parentElement, data);
      else if (data.object) this.pickObject(data.object);
    },
    toggle(event) {
      this.pickObject(Number(event.currentTarget.dataset.number));
    },
    pickObject(number) {
      const { objects } = this.$root.querySelector("[data-objects]").dataset;
      const chosen = new Set(objects.split(",").filter(Boolean).map(Number));
      if (!chosen.delete(number)) chosen.add(number);
      visit(withParam("objects", [...chosen].sort((a, b) => a - b).join(",")));
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
