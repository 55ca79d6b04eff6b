// Links, choices and filters that belong to the view and stand in the address; keys.
import { refresh, visit, withParam } from "./page.js";

const typedIn = /^(INPUT|SELECT|TEXTAREA)$/;
const SOON = 250; // milliseconds after the last letter

document.addEventListener("alpine:init", () => {
  // Links that change the view in place.
  Alpine.data("here", () => ({
    go(event) {
      const link = event.target.closest("a[href]");
      if (!link || event.ctrlKey || event.metaKey || event.shiftKey) return;
      event.preventDefault();
      visit(link.getAttribute("href"));
    },
    // Arrow keys move along a table whose rows hold a link.
    move(event) {
      const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
      const links = [...this.$root.querySelectorAll("tbody a[data-row]")];
      const at = links.indexOf(document.activeElement);
      if (!step || at < 0) return;
      event.preventDefault();
      const next = links[Math.max(0, Math.min(links.length - 1, at + step))];
      next.focus();
      visit(next.getAttribute("href"));
    },
  }));

  // A field that narrows a table while it is typed in.
  Alpine.data("filter", () => ({
    waiting: null,
    soon() {
      clearTimeout(this.waiting);
      this.waiting = setTimeout(() => this.now(), SOON);
    },
    now() {
      clearTimeout(this.waiting);
      const input = this.$root.querySelector("[data-param]");
      history.replaceState(null, "", withParam(input.dataset.param, input.value.trim()));
      refresh();
    },
  }));

  // A choice that belongs to the view.
  Alpine.data("choice", () => ({
    choose(event) {
      event.target.blur();
      visit(withParam(event.target.dataset.param, event.target.value));
    },
  }));
});

document.addEventListener("alpine:init", () => {
  Alpine.data("help", () => ({
    open: false,
    key(event) {
      const typing = typedIn.test(event.target.tagName ?? "");
      if (event.key === "?" && !typing) this.open = !this.open;
      else if (event.key === "Escape") this.open = false;
    },
    shut() {
      this.open = false;
    },
  }));
  // The button says the key.
  Alpine.data("helping", () => ({
    show() {
      window.dispatchEvent(new KeyboardEvent("keydown", { key: "?" }));
    },
  }));
});

// Keys 1 to 9 go to the stations.
document.addEventListener("keydown", (event) => {
  const typing = typedIn.test(event.target.tagName ?? "");
  if (event.ctrlKey || event.metaKey || event.altKey || typing) return;
  const links = [...document.querySelectorAll(".lane a[data-key]")];
  const link = links.find((a) => a.dataset.key === event.key);
  if (link) location.assign(link.href);
});
