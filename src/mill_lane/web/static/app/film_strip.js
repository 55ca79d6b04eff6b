// Frames one after another in one place, as a film would show them: played, stopped, stepped.
class FilmStrip extends HTMLElement {
  static observedAttributes = ["data-frames"];

  connectedCallback() {
    this.at = 0;
    this.picture = this.querySelector("img");
    this.words = this.querySelector("[data-at]");
    this.button = this.querySelector("[data-play]");
    this.button.addEventListener("click", () => (this.timer ? this.stop() : this.play()));
    for (const step of this.querySelectorAll("[data-step]"))
      step.addEventListener("click", () => {
        this.stop();
        this.show(this.at + Number(step.dataset.step));
      });
    this.read();
  }

  disconnectedCallback() {
    this.stop();
  }

  attributeChangedCallback() {
    if (this.picture) this.read();
  }

  // What is to be shown: number and picture of each frame.
  read() {
    this.frames = JSON.parse(this.dataset.frames);
    for (const [, source] of this.frames) new Image().src = source; // fetched before it plays
    this.show(Math.min(this.at, this.frames.length - 1));
  }

  show(at) {
    const count = this.frames.length;
    this.at = ((at % count) + count) % count;
    const [number, source] = this.frames[this.at];
    this.picture.src = source;
    this.picture.alt = `Frame ${number}`;
    this.words.textContent = number;
  }

  play() {
    const rate = Number(this.dataset.rate) || 4;
    this.timer = setInterval(() => this.show(this.at + 1), 1000 / rate);
    this.button.textContent = "Stop";
  }

  stop() {
    clearInterval(this.timer);
    this.timer = 0;
    this.button.textContent = "Play";
  }
}

customElements.define("film-strip", FilmStrip);
