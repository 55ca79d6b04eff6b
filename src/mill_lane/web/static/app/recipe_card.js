// The recipe's card: a search over its lines, and settings that are put back.
import { fieldsOf, isUnfinished } from "./forms.js";
import { send } from "./page.js";

const SOON = 200; // milliseconds after the last letter

function enter(field, value) {
  if (field.type === "checkbox") field.checked = value === "true";
  else field.value = value;
  // Whoever keeps fields as they change, or looks at them, hears of it.
  field.dispatchEvent(new Event("input", { bubbles: true }));
  field.dispatchEvent(new Event("change", { bubbles: true }));
}

// What is set on a card beside its fields: it stays where the page's card becomes another element.
const kept = {};

// Whether a field says something else than the server's page did.
function isTyped(field) {
  if (field.type === "checkbox") return field.checked !== field.defaultChecked;
  if (field.options) return !field.selectedOptions[0]?.defaultSelected;
  return field.value !== field.defaultValue;
}

// What is wrong in a line that is shut is seen: the line opens.
document.addEventListener(
  "invalid",
  (event) => {
    for (let el = event.target.closest("details"); el; el = el.parentElement.closest("details")) {
      el.open = true;
    }
  },
  true,
);

document.addEventListener("alpine:init", () => {
  Alpine.data("recipecard", () => ({
    waiting: null,
    shape: null, // width and height
    asked: 0, // how often the lines' words were asked for: an answer that is late counts no more
    init() {
      const { words } = this.$root.dataset;
      if (kept.words !== words) Object.assign(kept, { words, locked: true, word: "" });
      const lock = this.$root.querySelector("[data-lock]");
      if (lock) lock.checked = kept.locked;
      if (!kept.word) return;
      this.$root.querySelector("[type=search]").value = kept.word;
      this.$nextTick(() => this.find());
    },
    destroy() {
      clearTimeout(this.waiting);
    },
    lock(event) {
      kept.locked = event.target.checked;
    },
    // The lines say what is in their fields, also before that is kept.
    soon(event) {
      if (event.isTrusted) this.keepShape(event.target);
      clearTimeout(this.waiting);
      this.waiting = setTimeout(() => this.say(), SOON);
    },
    async say() {
      const form = this.$root.closest("form");
      if (isUnfinished(form)) return;
      const fields = fieldsOf(form);
      this.asked += 1;
      const { asked } = this;
      const { ok, data } = await send("POST", this.$root.dataset.words, fields);
      if (!ok || asked !== this.asked) return; // whoever keeps the fields tells what is wrong
      for (const line of this.$root.querySelectorAll("[data-line]")) {
        line.querySelector("[data-said]").textContent = data.said[line.dataset.line];
      }
    },
    // The page came anew from the server, which knows neither what is searched for nor what is typed
    // and not kept yet.
    again() {
      if (!this.$root.isConnected) return; // another card took its place
      if (this.$refs.search.value) this.find();
      if ([...this.$root.querySelectorAll("[name]")].some(isTyped)) this.say();
    },
    // Lines that a word finds open; with none, all is as it was.
    find() {
      kept.word = this.$refs.search.value;
      const word = kept.word.trim().toLowerCase();
      const lines = [...this.$root.querySelectorAll("[data-line]")];
      let found = 0;
      for (const line of lines) {
        const right = !word || line.dataset.words.includes(word);
        line.hidden = !right;
        if (word) line.open = right;
        else if (line.dataset.found) line.open = false;
        line.dataset.found = word ? "1" : "";
        found += right ? 1 : 0;
      }
      const rest = this.$root.querySelector("[data-rest]");
      if (rest) {
        const within = [...rest.querySelectorAll("[data-line]")].some((line) => !line.hidden);
        rest.open = Boolean(word) && within;
        rest.hidden = !within;
      }
      this.$root.querySelector("[data-nothing]").hidden = found > 0;
    },
    size() {
      return ["width", "height"].map((name) => this.$root.querySelector(`[name=${name}]`));
    },
    // The shape is that of the size before one of its sides is typed; a small size, which has it but
    // for whole pixels, leaves it as it was.
    enterSide(event) {
      const sides = this.size();
      if (!sides.includes(event.target)) return;
      const [w, h] = sides.map((side) => Number(side.value));
      const [wide, high] = this.shape || [0, 0];
      if (Math.abs(w * high - h * wide) >= Math.max(wide, high)) this.shape = [w, h];
    },
    // One side is typed: the other follows, to the nearest pixel.
    keepShape(typed) {
      const [width, height] = this.size();
      if (!kept.locked || !this.shape || !(typed === width || typed === height)) return;
      const [w, h] = this.shape;
      const value = Number(typed.value);
      if (!(value > 0 && w > 0 && h > 0)) return;
      if (typed === width) height.value = Math.max(1, Math.round((value * h) / w));
      else width.value = Math.max(1, Math.round((value * w) / h));
    },
    // Pixels that are not square: as many columns, and rows for square ones.
    squared() {
      const height = this.size()[1];
      const aspect = Number(this.$root.querySelector("[data-aspect]").value);
      if (!(aspect > 0)) return;
      enter(height, Math.max(1, Math.round(Number(height.value) / aspect)));
    },
    resize(event) {
      const part = Number(event.currentTarget.dataset.part);
      const final = this.$root.dataset.final.split(",").map(Number);
      const [width, height] = this.size();
      height.value = Math.max(1, Math.round(final[1] / part));
      enter(width, Math.max(1, Math.round(final[0] / part)));
    },
    putBack(event) {
      const { field, usual } = event.currentTarget.dataset;
      const fields = [...this.$root.querySelectorAll("[name]")];
      const own = fields.find((el) => el.name === field && el.type !== "hidden");
      if (own) enter(own, usual);
      event.currentTarget.parentElement.hidden = true;
    },
    // One light by itself: as it is, and all others off.
    onlyLight(event) {
      const { only } = event.currentTarget.dataset;
      const lights = [...this.$root.querySelectorAll("[name^='light:']")];
      for (const field of lights) field.value = field.name === only ? Number(field.value) || 1 : 0;
      enter(lights[0], lights[0].value);
    },
    allLights(event) {
      const { scale } = event.currentTarget.dataset;
      const lights = [...this.$root.querySelectorAll("[name^='light:']")];
      for (const field of lights.slice(0, -1)) field.value = scale;
      if (lights.length) enter(lights[lights.length - 1], scale);
    },
  }));
});
