// Questions to the ledger: every field that differs from what is goes into the address, and the
// memory bar moves at once.
import { refresh } from "./page.js";

const SOON = 300; // milliseconds after the last digit

function fieldValue(field) {
  if (field.type !== "checkbox") return field.value;
  return field.checked ? "true" : "";
}

document.addEventListener("alpine:init", () => {
  Alpine.data("whatif", () => ({
    waiting: null,
    soon() {
      clearTimeout(this.waiting);
      this.waiting = setTimeout(() => this.now(), SOON);
    },
    now() {
      clearTimeout(this.waiting);
      const root = this.$root;
      const url = new URL(root.dataset.own, location.href);
      for (const field of root.querySelectorAll("[data-field]")) {
        const value = fieldValue(field);
        if (value && value !== field.dataset.before && field.checkValidity()) {
          url.searchParams.set(field.dataset.field, value);
        }
      }
      const layers = [...root.querySelectorAll("[data-layer]")];
      const asked = new URL(location.href).searchParams.has("layers");
      if (asked || layers.some((x) => x.checked !== x.defaultChecked)) {
        const kept = layers.filter((x) => x.checked).map((x) => x.dataset.layer);
        url.searchParams.set("layers", kept.join(","));
      }
      history.replaceState(null, "", url);
      refresh();
    },
    clear() {
      location.assign(this.$root.dataset.own);
    },
  }));
});
