// Files that are sent: a scene that is dropped, a picture of the sky, a saved session.
import { clearComplaints, complain, refresh, send, visit } from "./page.js";

const BYTES = { "Content-Type": "application/octet-stream" };

function parsed(text) {
  try {
    return JSON.parse(text);
  } catch {
    return {}; // no answer, or none of ours
  }
}

document.addEventListener("alpine:init", () => {
  // The place to drop a scene on.
  Alpine.data("dropzone", () => ({
    over: false,
    share: 0,
    name: "",
    busy: false,
    waiting: [],
    several: false,
    opened: [],
    get percent() {
      return `${Math.round(this.share * 100)} %`;
    },
    enter() {
      this.over = true;
    },
    leave() {
      this.over = false;
    },
    drop(event) {
      this.over = false;
      this.take([...event.dataTransfer.files]);
    },
    pick(event) {
      this.take([...event.target.files]);
      event.target.value = "";
    },
    // One is opened and shown; of several each is a link, once it was sent.
    take(files) {
      if (!files.length || this.busy) return;
      clearComplaints(this.$root);
      this.several = files.length > 1;
      this.opened = [];
      this.waiting = files;
      this.upload();
    },
    upload() {
      const file = this.waiting.shift();
      if (!file) return;
      this.busy = true;
      this.share = 0;
      this.name = file.name;
      const request = new XMLHttpRequest();
      this.request = request;
      const choose = document.getElementById("choose")?.value || "";
      const asked = `name=${encodeURIComponent(file.name)}&choose=${encodeURIComponent(choose)}`;
      request.open("POST", `/api/scenes?${asked}`);
      request.setRequestHeader("Content-Type", BYTES["Content-Type"]);
      request.upload.onprogress = (e) => {
        if (e.lengthComputable) this.share = e.loaded / e.total;
      };
      request.onloadend = () => this.ended(request);
      request.send(file);
    },
    ended(request) {
      this.busy = false;
      const data = parsed(request.responseText);
      const href = `/jobs/${data.job}/scene`;
      const good = request.status >= 200 && request.status < 300;
      if (good && !this.several) location.assign(href);
      else if (good) this.opened.push({ name: this.name, href, key: data.job });
      else if (request.status || !this.stopped) {
        complain(this.$root, data);
      }
      if (this.stopped) this.waiting = [];
      this.stopped = false;
      this.upload();
    },
    stop() {
      this.stopped = true;
      this.request.abort();
    },
  }));

  // A button that sends a file beside the scene.
  Alpine.data("filing", () => ({
    said: "",
    init() {
      const input = this.$root.querySelector("input");
      if (input) this.said = input.dataset.label;
    },
    async pick(event) {
      const input = event.target;
      const [file] = input.files;
      const root = this.$root;
      if (!file) return;
      this.said = `Sending ${file.name}`;
      const href = `${root.dataset.href}?name=${encodeURIComponent(file.name)}`;
      const answer = await fetch(href, { method: "POST", headers: BYTES, body: file }).catch(
        () => null,
      );
      const data = answer ? await answer.json().catch(() => ({})) : {};
      input.value = "";
      this.said = input.dataset.label;
      if (!answer?.ok) complain(root.closest("form") || root.parentElement, data);
      else if (data.go) await visit(data.go);
      else await refresh();
    },
    async clear() {
      const { ok, data } = await send("DELETE", this.$root.dataset.href);
      if (ok) await refresh();
      else complain(this.$root.closest("form"), data);
    },
  }));
});
