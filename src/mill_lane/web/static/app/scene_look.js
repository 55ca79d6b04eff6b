// The look that runs on the Scene page, when it is asked for: in the place of the first look.
import { nextPicture, OVER, pause, SILENT } from "./following.js";
import { send } from "./page.js";

const TICK = 200; // milliseconds between two looks whether something else is wanted

document.addEventListener("alpine:init", () => {
  Alpine.data("scenelook", () => ({
    on: false,
    said: "",
    samples: 0, // a pixel, of what is shown
    get going() {
      return String(this.on);
    },
    get still() {
      return !this.on;
    },
    get look() {
      return document.querySelector("first-look");
    },
    init() {
      this.own = { sent: "", number: "", stamp: "", turn: 0, over: true, heard: 0 };
      this.timer = setInterval(() => this.tick(), TICK);
      // Nobody sees a page in the background: its look ends by itself, and begins anew.
      this.seen = () => {
        if (!document.hidden && this.own.over) this.own.sent = "";
      };
      document.addEventListener("visibilitychange", this.seen);
    },
    destroy() {
      clearInterval(this.timer);
      document.removeEventListener("visibilitychange", this.seen);
      if (this.on) this.end();
    },
    toggle() {
      if (this.on) this.end();
      else this.on = true;
    },
    // Another frame, camera, size or scene version: it begins anew.
    tick() {
      const { wish, version, job } = this.$root.dataset;
      const wanted = `${version} ${wish}`;
      const silent = Date.now() - this.own.heard > SILENT;
      if (this.on && !this.own.over && silent && !document.hidden) this.own.sent = "";
      if (this.on && wanted !== this.own.sent) {
        this.own.sent = wanted;
        this.own.turn += 1;
        this.samples = 0;
        this.follow(job, JSON.parse(wish), this.own.turn);
      }
    },
    async follow(job, wish, turn) {
      this.own.wish = wish;
      const { ok, data } = await send("POST", `/api/jobs/${job}/live`, wish);
      const wanted = () => this.on && turn === this.own.turn;
      if (!wanted()) return;
      if (!ok) this.said = [data.error, data.hint].filter(Boolean).join(" ") || "no answer";
      else this.said = "begins as soon as it can";
      this.own.number = data.number;
      this.own.heard = Date.now();
      this.own.over = !ok;
      while (!this.own.over && wanted()) {
        if (document.hidden) {
          await pause(TICK);
          continue;
        }
        const { said, picture } = (await nextPicture(job, this.own).catch(() => pause(1000))) || {};
        if (!said || !wanted()) continue;
        this.own.heard = Date.now();
        this.own.over = said.later || (said.ours && OVER.has(said.phase));
        if (said.later || said.ours) this.said = said.words;
        if (picture) this.look?.setLook(picture);
        if (said.ours) this.samples = said.samples ?? 0;
      }
    },
    // No more looking: what is rendered for it stops, the first look is there again.
    end() {
      this.on = false;
      this.said = "";
      this.own.sent = "";
      this.own.turn += 1;
      this.look?.setLook(null);
      const { job } = this.$root.dataset;
      // What is over may be so because another page looks: that goes on.
      if (this.own.over) return;
      this.own.over = true;
      send("POST", `/api/jobs/${job}/live`, { ...this.own.wish, paused: true });
    },
  }));
});
