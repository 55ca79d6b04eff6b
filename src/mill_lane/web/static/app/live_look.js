// The look that runs: whatever is changed on the page is looked at, the newest wish wins.

import { nextPicture, OVER, pause, SILENT } from "./following.js";
import { fieldsOf, isUnfinished } from "./forms.js";
import { complain, refresh, send } from "./page.js";

const TICK = 60; // milliseconds between two looks whether something was changed

document.addEventListener("alpine:init", () => {
  Alpine.data("livelook", () => ({
    on: false,
    paused: false,
    clean: false,
    said: "",
    samples: 0, // a pixel, of what is shown
    get going() {
      return String(this.on);
    },
    get resting() {
      return String(this.paused);
    },
    get cleaned() {
      return String(this.clean);
    },
    get viewer() {
      return document.querySelector("image-viewer");
    },
    init() {
      // What is no part of the page's state: nothing is drawn anew with it.
      this.own = { sent: "", number: "", stamp: "", over: false, asking: false, heard: 0 };
      this.own.pair = this.pairNow();
      this.on = "start" in this.$root.dataset;
      const form = document.getElementById("trial");
      form?.parentElement.addEventListener("input", (event) => {
        if (event.target.name !== "note" && event.target.form?.id === "trial") this.on = true;
      });
      this.$root.closest("section").addEventListener("drawn", () => {
        this.on = true;
      });
      document.addEventListener("visibilitychange", () => {
        if (!document.hidden && this.own.over) this.own.sent = "";
      });
      setInterval(() => this.tick(), TICK);
      this.follow();
    },
    pairNow() {
      const { searchParams } = new URL(location.href);
      return ["a", "b"].map((name) => searchParams.get(name) || "").join(",");
    },
    // Everything that the look goes by, as one text.
    wish() {
      const form = document.getElementById("trial");
      if (!form || isUnfinished(form)) return "";
      const { searchParams } = new URL(location.href);
      const { note: _note, device: _device, ...fields } = fieldsOf(form);
      const { place } = this.own;
      const shown = { layer: searchParams.get("layer") || "beauty", clean: this.clean };
      if (["denoised", "lost"].includes(shown.layer)) shown.layer = "beauty";
      const stops = Number(searchParams.get("stops"));
      if (stops) shown.stops = stops;
      return JSON.stringify({
        ...fields,
        ...shown,
        ...(place ? { place } : {}),
        paused: this.paused,
        version: this.$root.dataset.version,
      });
    },
    async tick() {
      const pair = this.pairNow();
      if (pair !== this.own.pair) {
        this.own.pair = pair;
        if (pair !== ",") this.end(); // trials are looked at now
      }
      if (!this.on || this.own.asking) return;
      if (!this.own.over && this.own.sent && Date.now() - this.own.heard > SILENT) {
        this.own.sent = "";
      }
      const wish = this.wish();
      if (!wish || wish === this.own.sent) return;
      this.own.asking = true;
      this.own.sent = wish;
      const { version: _version, ...fields } = JSON.parse(wish);
      const { ok, data } = await send("POST", `/api/jobs/${this.$root.dataset.job}/live`, fields);
      this.own.asking = false;
      this.own.heard = Date.now();
      if (ok) {
        this.own.number = data.number;
        this.own.over = false;
        this.said ||= "begins as soon as it can";
      } else {
        this.said = [data.error, data.hint].filter(Boolean).join(" ") || "no answer";
        this.own.over = true;
      }
    },
    // One picture after another, each as soon as it is there.
    async follow() {
      for (;;) {
        if (!this.on || this.own.over || !this.own.number || document.hidden) {
          await pause(TICK);
          continue;
        }
        try {
          await this.next();
        } catch {
          await pause(1000); // the server is not there: it may be again
        }
      }
    },
    async next() {
      const { said, picture } = await nextPicture(this.$root.dataset.job, this.own);
      if (!said) return;
      this.own.heard = Date.now();
      if (said.later) {
        this.own.over = true;
        this.said = said.words;
      }
      if (!said.ours || !this.on) return;
      this.said = said.words;
      if (picture) this.viewer.setLook(picture, said.crop);
      this.samples = said.samples ?? 0;
      this.own.over = OVER.has(said.phase);
    },
    pointed(event) {
      if (!this.on) return;
      const size = this.viewer.size;
      this.own.place = event.detail.map((v, i) => v / size[i]);
    },
    toggle() {
      if (this.on) this.end();
      else {
        this.own.sent = "";
        this.paused = false;
        this.on = true;
      }
    },
    pause() {
      this.paused = !this.paused;
    },
    tidy() {
      this.clean = !this.clean;
    },
    // No more looking: what is rendered for it stops.
    end() {
      if (!this.on) return;
      this.on = false;
      this.said = "";
      // What is over may be so because another page looks: that goes on.
      if (!this.own.over) {
        const fields = { ...JSON.parse(this.wish() || "{}"), paused: true };
        fields.version = undefined;
        send("POST", `/api/jobs/${this.$root.dataset.job}/live`, fields);
      }
      this.own.over = true;
      this.viewer.setLook(null);
      this.own.sent = "";
    },
    async freeze() {
      const { ok, data } = await send("POST", `/api/jobs/${this.$root.dataset.job}/live/freeze`, {
        note: document.getElementById("trial").elements.note.value,
      });
      if (ok) await refresh();
      else complain(this.$root.closest("section"), data);
    },
  }));
});
