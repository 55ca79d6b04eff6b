// <picture-well>: the picture at fit or 1:1, panned, cropped, and two trials compared by wipe.
//
// Everything is in pixels of the whole picture (data-size).  data-under is a whole-view picture, data-a and data-b are
// crops with their places in data-a-rect and data-b-rect, data-live a crop that is still rendering.  All rectangles are
// shares of the picture, 0 to 1, so that trials of other sizes fall into place; data-region is in pixels.
"use strict";

class PictureWell extends HTMLElement {
  static observedAttributes = ["data-under", "data-a", "data-b", "data-a-rect", "data-b-rect", "data-live", "data-live-rect", "data-region", "data-size"];

  constructor() {
    super();
    this.mode = "crop";
    this.zoom = "fit";
    this.scale = 1;
    this.at = [0, 0]; // the picture's corner in the element, CSS pixels
    this.wipe = 0.5;
    this.pictures = {};
  }

  connectedCallback() {
    if (!this.canvas) {
      this.canvas = document.createElement("canvas");
      this.append(this.canvas);
      this.canvas.addEventListener("pointerdown", (e) => this.down(e));
      this.canvas.addEventListener("pointermove", (e) => this.move(e));
      this.canvas.addEventListener("pointerup", (e) => this.up(e));
      this.canvas.addEventListener("wheel", (e) => this.wheel(e), { passive: false });
      new ResizeObserver(() => this.layout()).observe(this);
    }
    this.layout();
  }

  attributeChangedCallback(name, old, value) {
    if (old === value) return;
    const key = name.slice(5);
    if (["under", "a", "b", "live"].includes(key)) {
      if (!value) delete this.pictures[key];
      else {
        const picture = new Image();
        picture.onload = () => { this.pictures[key] = picture; this.draw(); };
        picture.src = value;
      }
    }
    if (name === "data-size") this.layout(); else this.draw();
  }

  numbers(name, otherwise) {
    const text = this.getAttribute("data-" + name);
    return text ? text.split(",").map(Number) : otherwise;
  }
  get size() { return this.numbers("size", [16, 9]); }

  // The scale at which a pixel of the trial A (or of the whole) is a pixel of the screen.
  get actual() {
    const own = this.pictures.a, rect = this.numbers("a-rect", [0, 0, 1, 1]);
    const factor = own ? own.naturalWidth / ((rect[2] - rect[0]) * this.size[0]) : 1;
    return factor / (window.devicePixelRatio || 1);
  }

  layout() {
    if (!this.canvas) return;
    const ratio = window.devicePixelRatio || 1;
    this.canvas.width = Math.max(1, Math.round(this.clientWidth * ratio));
    this.canvas.height = Math.max(1, Math.round(this.clientHeight * ratio));
    if (this.zoom === "fit") this.fit();
    this.draw();
  }
  fit() {
    const [w, h] = this.size, pad = 12;
    this.scale = Math.max(1e-3, Math.min((this.clientWidth - 2 * pad) / w, (this.clientHeight - 2 * pad) / h));
    this.at = [(this.clientWidth - w * this.scale) / 2, (this.clientHeight - h * this.scale) / 2];
  }
  setZoom(zoom) {
    this.zoom = zoom;
    if (zoom === "fit") this.fit();
    else {
      const rect = this.pictures.a ? this.numbers("a-rect", [0, 0, 1, 1]) : [0, 0, 1, 1];
      this.scale = this.actual;
      const middle = [(rect[0] + rect[2]) / 2 * this.size[0], (rect[1] + rect[3]) / 2 * this.size[1]];
      // Whole screen pixels, so that the picture is not smeared between two.
      this.at = [Math.round(this.clientWidth / 2 - middle[0] * this.scale), Math.round(this.clientHeight / 2 - middle[1] * this.scale)];
    }
    this.draw();
  }
  setWipe(share) { this.wipe = share; this.draw(); }

  draw() {
    if (!this.canvas) return;
    const ratio = window.devicePixelRatio || 1, c = this.canvas.getContext("2d");
    c.setTransform(ratio, 0, 0, ratio, 0, 0);
    c.fillStyle = "#767676";
    c.fillRect(0, 0, this.clientWidth, this.clientHeight);
    c.imageSmoothingEnabled = this.scale < this.actual * 0.999;
    c.imageSmoothingQuality = "high";
    const [w, h] = this.size, s = this.scale, [x, y] = this.at;
    const paint = (key, rect) => {
      const p = this.pictures[key];
      if (p) c.drawImage(p, x + rect[0] * w * s, y + rect[1] * h * s, (rect[2] - rect[0]) * w * s, (rect[3] - rect[1]) * h * s);
      return Boolean(p);
    };
    c.strokeStyle = "#5f5f5f";
    c.strokeRect(x - 0.5, y - 0.5, w * s + 1, h * s + 1);
    paint("under", [0, 0, 1, 1]);
    const rect = this.numbers("a-rect", [0, 0, 1, 1]), other = this.numbers("b-rect", [0, 0, 1, 1]);
    const both = this.pictures.a && this.pictures.b;
    paint("a", rect);
    if (both) {
      // The wipe runs over the crop that the two share.
      const left = x + Math.max(rect[0], other[0]) * w * s, right = x + Math.min(rect[2], other[2]) * w * s;
      const line = Math.round(left + (right - left) * this.wipe);
      c.save();
      c.beginPath();
      c.rect(line, 0, this.clientWidth - line, this.clientHeight);
      c.clip();
      paint("b", other);
      c.restore();
      this.line = line; this.span = [left, right];
      c.fillStyle = "#fff";
      c.fillRect(line - 1, y + rect[1] * h * s, 2, (rect[3] - rect[1]) * h * s);
      this.tag(c, "A", line - 26, y + rect[1] * h * s + 8, "#0d5c56");
      this.tag(c, "B", line + 8, y + rect[1] * h * s + 8, "#1d1f1e");
    } else if (this.pictures.b) paint("b", other);
    if (!both) this.line = undefined;
    paint("live", this.numbers("live-rect", [0, 0, 1, 1]));
    const region = this.drawing || this.numbers("region", null);
    if (region) {
      const [x0, y0, x1, y1] = region;
      c.lineWidth = 3; c.strokeStyle = "rgba(0,0,0,.5)";
      c.strokeRect(x + x0 * s, y + y0 * s, (x1 - x0) * s, (y1 - y0) * s);
      c.lineWidth = 1.5; c.strokeStyle = "#fff";
      c.strokeRect(x + x0 * s, y + y0 * s, (x1 - x0) * s, (y1 - y0) * s);
      c.lineWidth = 1;
      const text = `crop ${Math.round(x1 - x0)} × ${Math.round(y1 - y0)}`;
      c.font = '12px "Sometype Mono", monospace';
      const bottom = Math.min(y + y1 * s + 18, this.clientHeight - 6);
      c.fillStyle = "rgba(0,0,0,.65)";
      c.fillRect(x + x0 * s - 1, bottom - 14, c.measureText(text).width + 10, 18);
      c.fillStyle = "#fff";
      c.fillText(text, x + x0 * s + 4, bottom);
    }
  }
  tag(c, text, x, y, colour) {
    c.fillStyle = colour;
    c.fillRect(x, y, 18, 18);
    c.fillStyle = "#fff";
    c.font = '600 12px "Schibsted Grotesk", sans-serif';
    c.fillText(text, x + 5, y + 13);
  }

  place(e) {
    const box = this.canvas.getBoundingClientRect();
    return [e.clientX - box.left, e.clientY - box.top];
  }
  down(e) {
    const p = this.place(e);
    this.canvas.setPointerCapture(e.pointerId);
    if (this.line !== undefined && Math.abs(p[0] - this.line) < 8) this.held = { kind: "wipe" };
    else if (e.button === 1 || this.mode === "pan") this.held = { kind: "pan", from: p, at: [...this.at] };
    else if (this.mode === "crop" && e.button === 0) this.held = { kind: "crop", from: this.inside(p) };
    e.preventDefault();
  }
  inside([px, py]) {
    const clamp = (v, n) => Math.max(0, Math.min(n, Math.round(v)));
    return [clamp((px - this.at[0]) / this.scale, this.size[0]), clamp((py - this.at[1]) / this.scale, this.size[1])];
  }
  move(e) {
    const p = this.place(e);
    const held = this.held;
    if (!held && this.mode === "look") {
      this.canvas.style.cursor = "cell";
      this.dispatchEvent(new CustomEvent("looked", { detail: this.inside(p), bubbles: true }));
      return;
    }
    if (!held) {
      this.canvas.style.cursor = this.line !== undefined && Math.abs(p[0] - this.line) < 8 ? "ew-resize" : this.mode === "pan" ? "grab" : "crosshair";
      return;
    }
    if (held.kind === "wipe") {
      this.wipe = Math.max(0, Math.min(1, (p[0] - this.span[0]) / (this.span[1] - this.span[0])));
      this.dispatchEvent(new CustomEvent("wiped", { detail: this.wipe, bubbles: true }));
    } else if (held.kind === "pan") this.at = [Math.round(held.at[0] + p[0] - held.from[0]), Math.round(held.at[1] + p[1] - held.from[1])];
    else {
      const q = this.inside(p);
      this.drawing = [Math.min(held.from[0], q[0]), Math.min(held.from[1], q[1]), Math.max(held.from[0], q[0]), Math.max(held.from[1], q[1])];
    }
    this.draw();
  }
  up() {
    const region = this.drawing;
    this.held = this.drawing = undefined;
    if (region && region[2] - region[0] >= 8 && region[3] - region[1] >= 8) this.dispatchEvent(new CustomEvent("drawn", { detail: region, bubbles: true }));
    this.draw();
  }
  wheel(e) {
    e.preventDefault();
    const p = this.place(e), k = Math.exp(-e.deltaY * 0.0015), next = Math.max(0.05, Math.min(16, this.scale * k));
    this.at = [p[0] - (p[0] - this.at[0]) * next / this.scale, p[1] - (p[1] - this.at[1]) * next / this.scale];
    this.scale = next;
    this.zoom = "free";
    this.dispatchEvent(new CustomEvent("zoomed", { detail: "free", bubbles: true }));
    this.draw();
  }
}
customElements.define("picture-well", PictureWell);
