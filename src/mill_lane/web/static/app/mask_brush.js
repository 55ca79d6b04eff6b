// A mask that is painted over the picture: clear where nothing is painted.
const VEIL = 0.45; // of the colour in which the mask is shown

export class MaskBrush {
  constructor(width, height) {
    this.canvas = document.createElement("canvas");
    this.canvas.width = width;
    this.canvas.height = height;
    this.radius = 12; // pixels of the picture
  }

  // The mask that is kept: grey, white where it is painted.
  async take(href) {
    const picture = new Image();
    picture.src = href;
    await picture.decode();
    const c = this.canvas.getContext("2d");
    c.drawImage(picture, 0, 0, this.canvas.width, this.canvas.height);
    const pixels = c.getImageData(0, 0, this.canvas.width, this.canvas.height);
    for (let i = 0; i < pixels.data.length; i += 4) {
      [pixels.data[i + 3]] = pixels.data.subarray(i, i + 1);
      pixels.data.fill(255, i, i + 3);
    }
    c.putImageData(pixels, 0, 0);
  }

  // From one place to the next, in shares of the mask.
  stroke(from, to, erase) {
    const { width, height } = this.canvas;
    const c = this.canvas.getContext("2d");
    c.globalCompositeOperation = erase ? "destination-out" : "source-over";
    c.lineCap = "round";
    c.lineWidth = 2 * this.radius;
    c.strokeStyle = "white";
    c.beginPath();
    c.moveTo(from[0] * width, from[1] * height);
    c.lineTo(to[0] * width, to[1] * height);
    c.stroke();
  }

  draw(c, colour, place) {
    const tinted = document.createElement("canvas");
    tinted.width = this.canvas.width;
    tinted.height = this.canvas.height;
    const t = tinted.getContext("2d");
    t.drawImage(this.canvas, 0, 0);
    t.globalCompositeOperation = "source-in";
    t.fillStyle = colour;
    t.fillRect(0, 0, tinted.width, tinted.height);
    c.save();
    c.globalAlpha = VEIL;
    c.drawImage(tinted, ...place);
    c.restore();
  }

  file() {
    return new Promise((done) => {
      this.canvas.toBlob(done, "image/png");
    });
  }
}
