// The picture's tools on the Trials page.
import { MaskBrush } from "./mask_brush.js";
import { complain, refresh, send, visit, withParam } from "./page.js";

const READING = 120; // milliseconds between two looks at a pixel
const REST = 250; // milliseconds between two tellings of where the pointer is
const PLACES = 6; // decimals of a share of the frame, as the server writes it
const viewer = () => document.querySelector("image-viewer");
const edges = () => [...document.querySelectorAll("#trial [data-edge]")];

// The size of the next trial: as it is typed, or else as it is kept.
function sizeAtHand() {
  const { elements } = document.getElementById("trial");
  const kept = viewer().size;
  return [elements.width, elements.height].map((field, i) => Number(field?.value) || kept[i]);
}

// The crop in pixels of the size at hand, in the fields where it can be typed.
function tellCrop() {
  const form = document.getElementById("trial");
  if (!form) return;
  const text = form.elements.crop.value;
  const shares = text ? text.split(",").map(Number) : [0, 0, 1, 1];
  const size = sizeAtHand();
  edges().forEach((field, i) => {
    field.value = Math.round(shares[i] * size[i % 2]);
  });
  form.querySelector("[data-crop-away]").hidden = !text;
}

// A crop, as shares of the frame: into the form, the address and the picture; none: the whole view.
function setCrop(shares) {
  const text = shares ? shares.map((v) => Number(v.toFixed(PLACES))).join(",") : "";
  for (const field of document.querySelectorAll("[name=crop]")) field.value = text;
  history.replaceState(null, "", withParam("crop", text));
  viewer().setAttribute("data-crop", text);
  tellCrop();
}

document.addEventListener("alpine:init", () => {
  Alpine.data("viewertools", () => ({
    mode: "crop",
    zoom: "fit",
    wipe: 50,
    telling: false,
    pixel: "", // what is under the pointer
    reading: false,
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
    get twice() {
      return String(this.zoom === "2");
    },
    get fourTimes() {
      return String(this.zoom === "4");
    },
    // How two pictures are compared; also by a key.
    compare(event) {
      this.viewer.setCompare(event.target.value);
    },
    compared(event) {
      const choice = this.$root.querySelector("[data-compare]");
      if (choice) choice.value = event.detail;
    },
    gained(event) {
      this.viewer.gain = Math.max(1, Number(event.target.value) || 1);
      this.viewer.draw();
    },
    key(event) {
      const typing = /^(INPUT|SELECT|TEXTAREA)$/.test(event.target.tagName ?? "");
      if (typing || event.ctrlKey || event.metaKey || event.altKey) return;
      const zoom = { f: "fit", z: this.zoom === "1" ? "2" : this.zoom === "2" ? "4" : "1" }[
        event.key
      ];
      const how = { w: "wipe", s: "beside", t: "turns", d: "difference" }[event.key];
      if (zoom) {
        this.zoom = zoom;
        this.viewer.setZoom(zoom);
      } else if (how) {
        if (how === "turns" && this.viewer.compare === "turns") this.viewer.takeTurn();
        else this.viewer.setCompare(how);
      }
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
      const crop = event.currentTarget.dataset.place.split(",").map(Number);
      this.viewer.showPlace(crop);
      this.zoom = "1";
      setCrop(crop);
    },
    // What the trial's file has under the pointer: linear values, not what the screen shows.
    async hovered(event) {
      const { trial } = this.viewer.dataset;
      this.place = event.detail;
      if (!trial || !this.place) {
        this.pixel = "";
        return;
      }
      if (this.reading) return;
      this.reading = true;
      const [x, y] = this.place;
      const answer = await fetch(`/api/trials/${trial}/pixel?x=${x}&y=${y}`).catch(() => null);
      this.pixel = answer?.ok ? this.said(await answer.json()) : "";
      setTimeout(() => {
        this.reading = false;
        const moved = this.place && (this.place[0] !== x || this.place[1] !== y);
        if (moved) this.hovered({ detail: this.place });
      }, READING);
    },
    said({ x, y, values, object }) {
      const digits = (v) => (v >= 100 ? v.toFixed(0) : v.toPrecision(3));
      const parts = [`${x}, ${y}`, values.beauty?.map(digits).join(" ") || ""];
      if (values.samples) parts.push(`${Math.round(values.samples[0])} samples`);
      if (values.noise) parts.push(`${(100 * values.noise[0]).toPrecision(2)} % noise`);
      if (values.depth) parts.push(`${values.depth[0].toPrecision(3)} m`);
      if (object) parts.push(object);
      return parts.filter(Boolean).join("   ");
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
    // A crop was drawn.
    drawn(event) {
      setCrop(event.detail);
    },
    // The page brought another size, or another crop.
    resized() {
      setTimeout(tellCrop); // once all of the page is there
    },
  }));
  // The fields of the crop.
  Alpine.data("crop", () => ({
    init() {
      const sized = ({ target }) => ["width", "height"].includes(target.name) && tellCrop();
      this.$root.form.addEventListener("input", sized);
    },
    typed() {
      const size = sizeAtHand();
      const [x0, y0, x1, y1] = edges().map((field, i) =>
        Math.min(Math.max(Number(field.value) / size[i % 2], 0), 1),
      );
      if (x1 > x0 && y1 > y0) setCrop([x0, y0, x1, y1]);
      else tellCrop();
    },
    away() {
      setCrop(null);
    },
  }));
  // What the next trial leaves out: it belongs to the view.
  Alpine.data("looking", () => ({
    choose() {
      const fields = [...this.$root.querySelectorAll("[name]")];
      const ticked = fields.filter((f) => f.name === "hide" && f.checked).map((f) => f.value);
      history.replaceState(null, "", withParam("hide", ticked.join(",")));
      for (const f of fields.filter((f) => f.name !== "hide")) {
        const usual = f.name === "view" && f.value === "light";
        history.replaceState(null, "", withParam(f.name, usual ? "" : f.value));
      }
    },
  }));
});
