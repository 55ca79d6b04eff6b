// <image-viewer>: the picture at fit or 1:1, panned, cropped, and two trials compared by wipe.
//
// Everything is in pixels of the whole picture (data-size).  data-under is a whole-view picture,
// data-a and data-b are crops with their places in data-a-rect and data-b-rect, data-c and data-d
// those that stand in a row with them, data-live a crop that is still rendering.  All rectangles are
// shares of the picture, 0 to 1, so that trials of other sizes fall into place, and so is the crop
// that is drawn, data-crop.
const WHOLE = [0, 0, 1, 1];
const PAD = 12; // CSS pixels round a picture at fit
const GRIP = 8; // CSS pixels beside the wipe in which it can be taken
const LEAST = 8; // pixels of a crop
const TURN = 700; // milliseconds that one of two pictures is shown in turns
const SOFT = 0.45; // of what lies behind
const MONO = '12px "Sometype Mono", monospace';
const SANS = '600 12px "Schibsted Grotesk", sans-serif';

const BRUSHES = new Set(["paint", "erase"]);

const token = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
const clamp = (v, low, high) => Math.max(low, Math.min(high, v));

class ImageViewer extends HTMLElement {
  static observedAttributes = [
    "data-under",
    "data-a",
    "data-b",
    "data-c",
    "data-d",
    "data-a-rect",
    "data-b-rect",
    "data-c-rect",
    "data-d-rect",
    "data-live",
    "data-live-rect",
    "data-crop",
    "data-size",
    "data-mask",
  ];

  constructor() {
    super();
    this.mode = "crop";
    this.zoom = "fit";
    this.scale = 1;
    this.at = [0, 0]; // the picture's corner in the element, CSS pixels
    this.wipe = 0.5;
    this.pictures = {};
    this.compare = "wipe";
    this.gain = 4;
    this.turn = 0;
  }

  connectedCallback() {
    if (!this.canvas) {
      this.canvas = document.createElement("canvas");
      this.append(this.canvas);
      this.canvas.addEventListener("pointerdown", (e) => this.down(e));
      this.canvas.addEventListener("pointermove", (e) => this.move(e));
      this.canvas.addEventListener("pointerup", () => this.up());
      this.canvas.addEventListener("wheel", (e) => this.wheel(e), { passive: false });
      new ResizeObserver(() => this.layout()).observe(this);
    }
    this.layout();
  }

  attributeChangedCallback(name, old, value) {
    if (old === value) return;
    const key = name.slice("data-".length);
    if (["under", "a", "b", "c", "d", "live"].includes(key)) this.load(key, value);
    if (key === "mask") this.tell("masked");
    if (key === "size" || key === "crop") this.tell("resized");
    if (name === "data-size") this.layout();
    else this.draw();
  }

  load(key, href) {
    if (!href) {
      delete this.pictures[key];
      this.refit();
      return;
    }
    const picture = new Image();
    picture.onload = () => {
      const more = !this.pictures[key] && (key === "c" || key === "d");
      this.pictures[key] = picture;
      if (more) this.setCompare("beside");
      this.refit();
    };
    picture.src = href;
  }

  numbers(name, otherwise) {
    const text = this.getAttribute(`data-${name}`);
    return text ? text.split(",").map(Number) : otherwise;
  }

  get size() {
    return this.numbers("size", [16, 9]);
  }

  // The scale at which a pixel of the trial A (or of the whole) is a pixel of the screen.
  get actual() {
    const own = this.pictures.a;
    const rect = this.numbers("a-rect", WHOLE);
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

  // What is compared, from left to right: two, and up to two more in a row.
  get compared() {
    const second = this.pictures.look ? "look" : "b";
    if (!this.pictures.a || !this.pictures[second]) return [];
    return ["a", second, "c", "d"].filter((key) => this.pictures[key]);
  }

  // How many panels the element is divided into.
  get panels() {
    return this.compare === "beside" ? Math.max(1, this.compared.length) : 1;
  }

  // By how much what is shown in a panel lies to the right of where it would without panels.
  shift(panel) {
    const wide = this.clientWidth / this.panels;
    return panel * wide - (this.clientWidth - wide) / 2;
  }

  // A place in the element as it would be without panels.
  flat(p) {
    const panel = Math.min(this.panels - 1, Math.floor((p[0] / this.clientWidth) * this.panels));
    return [p[0] - this.shift(Math.max(0, panel)), p[1]];
  }

  refit() {
    if (this.zoom === "fit") this.fit();
    this.draw();
  }

  fit() {
    const [w, h] = this.size;
    const across = (this.clientWidth / this.panels - 2 * PAD) / w;
    const down = (this.clientHeight - 2 * PAD) / h;
    this.scale = Math.max(1e-3, Math.min(across, down));
    this.at = [(this.clientWidth - w * this.scale) / 2, (this.clientHeight - h * this.scale) / 2];
  }

  setZoom(zoom) {
    this.zoom = zoom;
    if (zoom === "fit") this.fit();
    else {
      const rect = this.pictures.a ? this.numbers("a-rect", WHOLE) : WHOLE;
      const [w, h] = this.size;
      this.scale = this.actual * Number(zoom);
      const middle = [((rect[0] + rect[2]) / 2) * w, ((rect[1] + rect[3]) / 2) * h];
      // Whole screen pixels, so that the picture is not smeared between two.
      this.at = [
        Math.round(this.clientWidth / 2 - middle[0] * this.scale),
        Math.round(this.clientHeight / 2 - middle[1] * this.scale),
      ];
    }
    this.draw();
  }

  // A crop into the middle, a pixel of it a pixel of the screen.
  showPlace([x0, y0, x1, y1]) {
    const [w, h] = this.size;
    this.zoom = "1";
    this.scale = this.actual;
    this.at = [
      Math.round(this.clientWidth / 2 - ((x0 + x1) / 2) * w * this.scale),
      Math.round(this.clientHeight / 2 - ((y0 + y1) / 2) * h * this.scale),
    ];
    this.draw();
  }

  setWipe(share) {
    this.wipe = share;
    this.draw();
  }

  // Whether what is behind is all there is to see.
  get alone() {
    return !(this.pictures.a || this.pictures.b || this.pictures.live || this.pictures.look);
  }

  // The picture of the look that runs, in the place of the second trial; null: no more.
  setLook(picture, rect) {
    this.pictures.look?.close();
    this.pictures.look = picture;
    this.lookRect = rect || WHOLE;
    this.draw();
  }

  // Shares of the picture in its pixels.
  pixels(shares) {
    return shares?.map((v, i) => v * this.size[i % 2]);
  }

  // A rectangle in shares of the picture as left, top, width, height in the element.
  placed(rect) {
    const [w, h] = this.size.map((n) => n * this.scale);
    const [x, y] = this.at;
    return [x + rect[0] * w, y + rect[1] * h, (rect[2] - rect[0]) * w, (rect[3] - rect[1]) * h];
  }

  paint(c, key, rect) {
    const picture = this.pictures[key];
    if (picture) c.drawImage(picture, ...this.placed(rect));
  }

  draw() {
    if (!this.canvas) return;
    const ratio = window.devicePixelRatio || 1;
    const c = this.canvas.getContext("2d");
    c.setTransform(ratio, 0, 0, ratio, 0, 0);
    c.fillStyle = token("--color-well");
    c.fillRect(0, 0, this.clientWidth, this.clientHeight);
    c.imageSmoothingEnabled = this.scale < this.actual * 0.999;
    c.imageSmoothingQuality = "high";
    const [x, y, w, h] = this.placed(WHOLE);
    c.strokeStyle = token("--color-well-edge");
    c.strokeRect(x - 0.5, y - 0.5, w + 1, h + 1);
    // Behind a crop, or what is still to come, it is there but not taken for a part of it.
    c.globalAlpha = this.alone ? 1 : SOFT;
    this.paint(c, "under", WHOLE);
    c.globalAlpha = 1;
    const a = this.numbers("a-rect", WHOLE);
    const second = this.pictures.look ? "look" : "b";
    const b = this.pictures.look ? this.lookRect : this.numbers("b-rect", WHOLE);
    this.line = undefined;
    if (this.pictures.a && this.pictures[second]) this.drawPair(c, a, b, second);
    else {
      this.paint(c, "a", a);
      this.paint(c, second, b);
    }
    if (!this.pictures.look) this.paint(c, "live", this.numbers("live-rect", WHOLE));
    const region = this.drawing || this.pixels(this.numbers("crop", null));
    this.inPanels(() => {
      if (this.brush && BRUSHES.has(this.mode)) {
        this.brush.draw(c, token("--color-ochre"), this.placed(b));
      }
      if (region) this.drawRegion(c, region);
    });
  }

  // Draws something in each panel, told its number.
  inPanels(draw) {
    const { at, panels } = this;
    for (let panel = 0; panel < panels; panel++) {
      this.at = [at[0] + this.shift(panel), at[1]];
      draw(panel);
    }
    this.at = at;
  }

  // Two pictures by the wipe, side by side, in turns, or what is between them.
  drawPair(c, a, b, second) {
    const { compare } = this;
    if (compare === "beside") this.drawBeside(c);
    else if (compare === "turns") this.drawTurns(c, a, b, second);
    else if (compare === "difference") this.drawDifference(c, a, b, second);
    else this.drawWipe(c, a, b, second);
  }

  // All panels show the same place at the same scale.
  drawBeside(c) {
    const wide = this.clientWidth / this.panels;
    const keys = this.compared;
    this.inPanels((panel) => {
      const key = keys[panel];
      const from = panel * wide;
      c.save();
      c.beginPath();
      c.rect(from, 0, wide, this.clientHeight);
      c.clip();
      c.fillStyle = token("--color-well");
      c.fillRect(from, 0, wide, this.clientHeight);
      this.paint(c, key, key === "look" ? this.lookRect : this.numbers(`${key}-rect`, WHOLE));
      c.restore();
      const colour = token(panel ? "--color-ink" : "--color-race");
      this.tag(c, this.nameOf(key), from + 8, 8, colour);
      c.fillStyle = token("--color-white");
      if (panel) c.fillRect(Math.round(from) - 1, 0, 2, this.clientHeight);
    });
  }

  nameOf(key) {
    if (key === "look") return "now";
    return (this.dataset.names || "").split(",")["abcd".indexOf(key)] || "";
  }

  drawTurns(c, a, b, second) {
    const first = this.turn % 2 === 0;
    this.paint(c, first ? "a" : second, first ? a : b);
    const [left, top] = this.placed(first ? a : b);
    const names = this.names(second);
    this.tag(c, first ? names[0] : names[1], left + 8, top + 8, token("--color-ink"));
  }

  // The absolute difference of what is shown, as often as the gain says.
  drawDifference(c, a, b, second) {
    this.sheet ||= document.createElement("canvas");
    const { sheet } = this;
    sheet.width = this.clientWidth;
    sheet.height = this.clientHeight;
    const s = sheet.getContext("2d");
    s.imageSmoothingEnabled = c.imageSmoothingEnabled;
    const [left, top, right, bottom] = [
      Math.max(a[0], b[0]),
      Math.max(a[1], b[1]),
      Math.min(a[2], b[2]),
      Math.min(a[3], b[3]),
    ];
    if (right <= left || bottom <= top) return;
    const box = this.placed([left, top, right, bottom]);
    s.beginPath();
    s.rect(...box);
    s.clip();
    this.paint(s, "a", a);
    s.globalCompositeOperation = "difference";
    this.paint(s, second, b);
    c.save();
    c.filter = `brightness(${this.gain})`;
    c.drawImage(sheet, 0, 0);
    c.restore();
    this.tag(c, `difference × ${this.gain}`, box[0] + 8, box[1] + 8, token("--color-ink"));
  }

  setCompare(how) {
    this.compare = how;
    this.tell("compared", how);
    clearInterval(this.turning);
    this.turn = 0;
    // Whoever wants less motion turns by the key.
    const still = matchMedia("(prefers-reduced-motion: reduce)").matches;
    if (how === "turns" && !still) this.turning = setInterval(() => this.takeTurn(), TURN);
    this.refit();
  }

  takeTurn() {
    this.turn += 1;
    this.draw();
  }

  names(second) {
    return [this.nameOf("a"), this.nameOf(second)];
  }

  nameBoth(c, x, y, second) {
    const [first, last] = this.names(second);
    this.tag(c, first, x - 8, y, token("--color-race"), true);
    this.tag(c, last, x + 8, y, token("--color-ink"));
  }

  // The wipe runs over the crop that the two share.
  drawWipe(c, a, b, second) {
    this.paint(c, "a", a);
    const [left, top, , height] = this.placed([Math.max(a[0], b[0]), a[1], 1, a[3]]);
    const [right] = this.placed([Math.min(a[2], b[2]), 0, 1, 1]);
    const line = Math.round(left + (right - left) * this.wipe);
    c.save();
    c.beginPath();
    c.rect(line, 0, this.clientWidth - line, this.clientHeight);
    c.clip();
    this.paint(c, second, b);
    c.restore();
    this.line = line;
    this.span = [left, right];
    c.fillStyle = token("--color-white");
    c.fillRect(line - 1, top, 2, height);
    this.nameBoth(c, line, top + 8, second);
  }

  drawRegion(c, [x0, y0, x1, y1]) {
    const [x, y] = this.at;
    const s = this.scale;
    const box = [x + x0 * s, y + y0 * s, (x1 - x0) * s, (y1 - y0) * s];
    c.lineWidth = 3;
    c.strokeStyle = token("--color-crop-edge");
    c.strokeRect(...box);
    c.lineWidth = 1.5;
    c.strokeStyle = token("--color-white");
    c.strokeRect(...box);
    c.lineWidth = 1;
    const text = `crop ${Math.round(x1 - x0)} × ${Math.round(y1 - y0)}`;
    c.font = MONO;
    const bottom = Math.min(y + y1 * s + 18, this.clientHeight - 6);
    const wide = c.measureText(text).width + 10;
    // At 1:1 the crop may begin or end outside: its label stays in view.
    const left = Math.max(0, Math.min(box[0] - 1, this.clientWidth - wide));
    c.fillStyle = token("--color-crop-label");
    c.fillRect(left, bottom - 14, wide, 18);
    c.fillStyle = token("--color-white");
    c.fillText(text, left + 5, bottom);
  }

  // What stands beside the wipe; before it, where it ends there.
  tag(c, text, x, y, colour, before = false) {
    if (!text) return;
    c.font = SANS;
    const wide = c.measureText(text).width + 12;
    const left = before ? x - wide : x;
    c.fillStyle = colour;
    c.fillRect(left, y, wide, 18);
    c.fillStyle = token("--color-white");
    c.fillText(text, left + 6, y + 13);
  }

  // Where a pointer is in the element, and in the picture.
  place(e) {
    const box = this.canvas.getBoundingClientRect();
    return [e.clientX - box.left, e.clientY - box.top];
  }

  inside(p) {
    return this.flat(p).map((v, i) =>
      clamp(Math.round((v - this.at[i]) / this.scale), 0, this.size[i]),
    );
  }

  // The same in shares of the picture.
  share(p) {
    return this.flat(p).map((v, i) => (v - this.at[i]) / this.scale / this.size[i]);
  }

  // Where a place in the element is in the mask, which covers B, in shares.
  inMask(p) {
    const [x, y, w, h] = this.placed(this.numbers("b-rect", WHOLE));
    const [left, top] = this.flat(p);
    return [(left - x) / w, (top - y) / h];
  }

  stroke(p) {
    const to = this.inMask(p);
    this.brush.stroke(this.held.from, to, this.mode === "erase");
    this.held.from = to;
    this.draw();
  }

  onWipe(p) {
    if (BRUSHES.has(this.mode) || this.mode === "pick") return false; // the hand is for that
    return this.line !== undefined && Math.abs(p[0] - this.line) < GRIP;
  }

  tell(name, detail) {
    this.dispatchEvent(new CustomEvent(name, { detail, bubbles: true }));
  }

  down(e) {
    const p = this.place(e);
    this.canvas.setPointerCapture(e.pointerId);
    if (this.onWipe(p)) this.held = { kind: "wipe" };
    else if (e.button === 1 || this.mode === "pan") {
      this.held = { kind: "pan", from: p, at: [...this.at] };
    } else if (BRUSHES.has(this.mode) && this.brush && e.button === 0) {
      this.held = { kind: "stroke", from: this.inMask(p) };
      this.stroke(p);
    } else if (this.mode === "pick" && e.button === 0) {
      this.tell("picked", this.share(p));
    } else if (this.mode === "crop" && e.button === 0) {
      this.held = { kind: "crop", from: this.inside(p) };
    }
    e.preventDefault();
  }

  hover(p) {
    const share = this.share(p);
    this.tell("hovered", share.every((v) => v >= 0 && v < 1) ? share : null);
    if (this.mode === "look") {
      this.canvas.style.cursor = "cell";
      this.tell("looked", this.inside(p));
    } else if (this.onWipe(p)) this.canvas.style.cursor = "ew-resize";
    else this.canvas.style.cursor = this.mode === "pan" ? "grab" : "crosshair";
  }

  move(e) {
    const p = this.place(e);
    const { held } = this;
    if (!held) {
      this.hover(p);
      return;
    }
    if (held.kind === "wipe") {
      const [left, right] = this.span;
      this.wipe = clamp((p[0] - left) / (right - left), 0, 1);
      this.tell("wiped", this.wipe);
    } else if (held.kind === "stroke") {
      this.stroke(p);
    } else if (held.kind === "pan") {
      this.at = held.at.map((v, i) => Math.round(v + p[i] - held.from[i]));
    } else {
      const q = this.inside(p);
      const [x, y] = held.from;
      this.drawing = [Math.min(x, q[0]), Math.min(y, q[1]), Math.max(x, q[0]), Math.max(y, q[1])];
    }
    this.draw();
  }

  up() {
    const region = this.drawing;
    if (this.held?.kind === "stroke") this.tell("painted", this.brush);
    this.held = undefined;
    this.drawing = undefined;
    const large = region && region[2] - region[0] >= LEAST && region[3] - region[1] >= LEAST;
    if (large) {
      const [w, h] = this.size;
      this.tell("drawn", [region[0] / w, region[1] / h, region[2] / w, region[3] / h]);
    }
    this.draw();
  }

  wheel(e) {
    e.preventDefault();
    const p = this.flat(this.place(e));
    const next = clamp(this.scale * Math.exp(-e.deltaY * 0.0015), 0.05, 16);
    this.at = p.map((v, i) => v - ((v - this.at[i]) * next) / this.scale);
    this.scale = next;
    this.zoom = "free";
    this.tell("zoomed", "free");
    this.draw();
  }
}
customElements.define("image-viewer", ImageViewer);
