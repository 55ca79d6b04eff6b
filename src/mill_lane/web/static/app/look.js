// The first look: what is selected is outlined in it, a click in it selects.
import { visit } from "./page.js";

const NONE = -1;
const TRIES = 5; // in a row
const LATER = 1000; // milliseconds until a picture that did not come is asked for again

function loaded(src) {
  return new Promise((done) => {
    const image = new Image();
    image.onload = () => done(image);
    image.onerror = () => done(null);
    image.src = src;
  });
}

function colour(name) {
  return getComputedStyle(document.documentElement).getPropertyValue(name).trim();
}

class FirstLook extends HTMLElement {
  static observedAttributes = ["data-picture", "data-meshes", "data-mesh"];

  connectedCallback() {
    if (!this.canvas) {
      this.canvas = document.createElement("canvas");
      Object.assign(this.canvas.style, { width: "100%", display: "block", cursor: "pointer" });
      this.attachShadow({ mode: "open" }).append(this.canvas);
      this.addEventListener("click", (event) => this.pick(event));
    }
    this.update();
  }

  attributeChangedCallback() {
    if (this.canvas) this.update();
  }

  async update() {
    this.turn = (this.turn || 0) + 1;
    const { turn } = this;
    const { picture, meshes } = this.dataset;
    const [shown, codes] = await Promise.all([loaded(picture), loaded(meshes)]);
    if (turn !== this.turn) return;
    if (!shown) {
      // It may just be on its way from one place to another.
      this.tries = (this.tries || 0) + 1;
      const again = () => turn === this.turn && this.isConnected && this.update();
      if (this.tries < TRIES) setTimeout(again, LATER);
      return;
    }
    this.tries = 0;
    this.canvas.width = shown.naturalWidth;
    this.canvas.height = shown.naturalHeight;
    // An upright one is as high as others are wide.
    this.canvas.style.width = `${Math.min(100, (100 * shown.naturalWidth) / shown.naturalHeight)}%`;
    const context = this.canvas.getContext("2d", { willReadFrequently: true });
    this.numbers = codes ? this.read(context, codes) : null;
    this.still = shown;
    this.draw();
    this.setAttribute("drawn", turn); // no data-: the page takes those that the server does not know
  }

  // A picture of the look that runs, in the place of the first look; null for that again.
  setLook(picture) {
    this.running = picture;
    if (this.still) this.draw();
  }

  draw() {
    const { width, height } = this.canvas;
    const context = this.canvas.getContext("2d");
    context.imageSmoothingEnabled = !this.running; // what is coarse is shown as it is
    context.drawImage(this.running || this.still, 0, 0, width, height);
    this.outline(context);
  }

  // Which mesh is where: a number and one in the bytes of a colour, red the lowest.
  read(context, codes) {
    const { width, height } = this.canvas;
    context.drawImage(codes, 0, 0, width, height);
    const { data } = context.getImageData(0, 0, width, height);
    const out = new Int32Array(width * height);
    for (let i = 0; i < out.length; i++) {
      out[i] = data[4 * i] + 256 * data[4 * i + 1] + 65536 * data[4 * i + 2] - 1;
    }
    return out;
  }

  outline(context) {
    const mesh = Number(this.dataset.mesh ?? NONE);
    if (!this.numbers || mesh < 0) return;
    const { width, height } = this.canvas;
    const at = (x, y) =>
      x >= 0 && y >= 0 && x < width && y < height && this.numbers[y * width + x] === mesh;
    context.fillStyle = colour("--color-race");
    for (let y = 0; y < height; y++) {
      for (let x = 0; x < width; x++) {
        const edge = !at(x - 1, y) || !at(x + 1, y) || !at(x, y - 1) || !at(x, y + 1);
        if (at(x, y) && edge) context.fillRect(x, y, 1, 1);
      }
    }
  }

  pick(event) {
    if (!this.numbers) return;
    const box = this.canvas.getBoundingClientRect();
    const x = Math.floor(((event.clientX - box.left) / box.width) * this.canvas.width);
    const y = Math.floor(((event.clientY - box.top) / box.height) * this.canvas.height);
    const mesh = this.numbers[y * this.canvas.width + x];
    if (mesh >= 0) visit(`${this.dataset.href}${mesh}`);
  }
}

customElements.define("first-look", FirstLook);
