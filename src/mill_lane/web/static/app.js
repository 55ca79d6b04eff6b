// The page's behaviour.  The server draws every page; this sends changes, and brings the page up to date in place.
"use strict";

const page = () => document.getElementById("page");

// Fetch this very address again and take over what changed.  Pictures and fields being typed in are left alone.
let refreshing = null;
async function refresh() {
  if (refreshing) { refreshing.again = true; return; }
  refreshing = {};
  try {
    // A request that hangs must not keep all later ones waiting.
    const answer = await fetch(location.href, { headers: { Accept: "text/html" }, signal: AbortSignal.timeout(20000) });
    if (!answer.ok) return;
    const next = new DOMParser().parseFromString(await answer.text(), "text/html");
    // What went wrong is told by this page alone: it stays until the artist tries again.
    const told = [...page().querySelectorAll(".message[role=alert]")].map((box) => [box.parentElement, box]);
    told.forEach(([, box]) => box.remove());
    Alpine.morph(page(), next.getElementById("page"), {
      updating(el, to, childrenOnly, skip) {
        if (el.nodeType !== 1) return;
        if (el === document.activeElement && /^(INPUT|SELECT|TEXTAREA)$/.test(el.tagName)) return skip();
        if (el.tagName === "PICTURE-WELL") {
          for (const name of el.getAttributeNames()) if (!to.hasAttribute(name) && name.startsWith("data-")) el.removeAttribute(name);
          for (const a of to.attributes) if (el.getAttribute(a.name) !== a.value) el.setAttribute(a.name, a.value);
          skip();
        }
      },
      updated(el, to) {
        // A choice that belongs to the address follows it; what is chosen in a form stays.
        const chosen = el.nodeType === 1 && el.tagName === "SELECT" && el.dataset.param && to.querySelector("option[selected]");
        if (chosen) el.value = chosen.value;
      },
    });
    told.forEach(([place, box]) => { if (place.isConnected) place.prepend(box); });
    document.title = next.title;
  } catch (e) {
    if (e.name !== "TimeoutError" && e.name !== "TypeError") throw e;
  } finally {
    const again = refreshing.again;
    refreshing = null;
    if (again) refresh();
  }
}

// Go to another view of the same page (a selection, a tab) without losing the scroll position.
function visit(href) {
  history.pushState(null, "", href);
  return refresh();
}
window.addEventListener("popstate", refresh);

function complain(place, problem) {
  const box = document.createElement("div");
  box.className = "message";
  box.setAttribute("role", "alert");
  const line = (text, bold) => {
    if (!text) return;
    const p = document.createElement("p");
    p.textContent = text;
    if (bold) p.className = "font-semibold";
    box.append(p);
  };
  line(problem.error || "The server did not answer.", true);
  line(problem.kept);
  line(problem.hint || "Check that Mill Lane is still running, then try again.");
  place.querySelectorAll(":scope > .message[role=alert]").forEach((old) => old.remove());
  place.prepend(box);
}

async function send(method, href, body) {
  try {
    const answer = await fetch(href, {
      method,
      headers: { "Content-Type": "application/json", Accept: "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
    const data = await answer.json().catch(() => ({}));
    return { ok: answer.ok, data };
  } catch (e) {
    return { ok: false, data: {} };
  }
}

document.addEventListener("alpine:init", () => {
  // A form that sends its fields as JSON: data-method, action, and what comes after in data-then.
  Alpine.data("act", () => ({
    busy: false,
    async submit(event) {
      if (this.busy) return;
      const form = this.$root;
      const fields = {};
      for (const [name, value] of new FormData(form)) {
        if (name.endsWith("[]")) (fields[name.slice(0, -2)] ||= []).push(value);
        else fields[name] = value;
      }
      if (event.submitter && event.submitter.name) fields[event.submitter.name] = event.submitter.value;
      this.busy = true;
      const { ok, data } = await send(form.dataset.method || "POST", form.getAttribute("action"), fields);
      this.busy = false;
      if (!ok) return complain(form, data);
      form.querySelectorAll(":scope > .message[role=alert]").forEach((old) => old.remove());
      if (data.go && data.go !== location.pathname + location.search) return form.dataset.then === "stay" ? visit(data.go) : location.assign(data.go);
      await refresh();
    },
    // For fields that are kept as soon as they change.
    change() { this.$root.requestSubmit(); },
  }));

  // The place to drop a scene on.
  Alpine.data("dropzone", () => ({
    over: false, share: 0, name: "", busy: false,
    get percent() { return Math.round(this.share * 100) + " %"; },
    enter() { this.over = true; },
    leave() { this.over = false; },
    drop(event) { this.over = false; this.upload(event.dataTransfer.files[0]); },
    pick(event) { this.upload(event.target.files[0]); event.target.value = ""; },
    upload(file) {
      if (!file || this.busy) return;
      const root = this.$root;
      root.querySelectorAll(":scope > .message[role=alert]").forEach((old) => old.remove());
      this.busy = true; this.share = 0; this.name = file.name;
      const request = new XMLHttpRequest();
      this.request = request;
      request.open("POST", "/api/scenes?name=" + encodeURIComponent(file.name));
      request.setRequestHeader("Content-Type", "application/octet-stream");
      request.upload.onprogress = (e) => { if (e.lengthComputable) this.share = e.loaded / e.total; };
      request.onloadend = () => {
        this.busy = false;
        let data = {};
        try { data = JSON.parse(request.responseText); } catch (e) { /* no answer: complain below */ }
        if (request.status >= 200 && request.status < 300) refresh();
        else if (request.status || !this.stopped) complain(root, data);
        this.stopped = false;
      };
      request.send(file);
    },
    stop() { this.stopped = true; this.request.abort(); },
  }));

  // A button that sends a file beside the scene: a picture of the sky, a saved session.
  Alpine.data("filing", () => ({
    said: "",
    init() { const input = this.$root.querySelector("input"); if (input) this.said = input.dataset.label; },
    async pick(event) {
      const input = event.target, file = input.files[0], root = this.$root;
      if (!file) return;
      this.said = "Sending " + file.name;
      const href = root.dataset.href + "?name=" + encodeURIComponent(file.name);
      const answer = await fetch(href, { method: "POST", headers: { "Content-Type": "application/octet-stream" }, body: file }).catch(() => null);
      const data = answer ? await answer.json().catch(() => ({})) : {};
      input.value = ""; this.said = input.dataset.label;
      if (!answer || !answer.ok) return complain(root.closest("form") || root.parentElement, data);
      return data.go ? visit(data.go) : refresh();
    },
    async clear() {
      const { ok, data } = await send("DELETE", this.$root.dataset.href);
      if (!ok) return complain(this.$root.closest("form"), data);
      await refresh();
    },
  }));

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

  // A field that narrows a table while it is typed in; it stands in the address.
  Alpine.data("filter", () => ({
    waiting: null,
    soon() { clearTimeout(this.waiting); this.waiting = setTimeout(() => this.now(), 250); },
    now() {
      clearTimeout(this.waiting);
      const input = this.$root.querySelector("[data-param]"), url = new URL(location.href);
      if (input.value.trim()) url.searchParams.set(input.dataset.param, input.value.trim());
      else url.searchParams.delete(input.dataset.param);
      history.replaceState(null, "", url);
      refresh();
    },
  }));

  // A choice that belongs to the view: into the address.
  Alpine.data("choice", () => ({
    choose(event) {
      const url = new URL(location.href);
      url.searchParams.set(event.target.dataset.param, event.target.value);
      event.target.blur();
      visit(url.pathname + url.search);
    },
  }));

  // Questions to the ledger: every field that differs from what is, in the address, and the beam moves at once.
  Alpine.data("whatif", () => ({
    waiting: null,
    soon() { clearTimeout(this.waiting); this.waiting = setTimeout(() => this.now(), 300); },
    now() {
      clearTimeout(this.waiting);
      const url = new URL(this.$root.dataset.own, location.href), root = this.$root;
      for (const field of root.querySelectorAll("[data-field]")) {
        const value = field.type === "checkbox" ? (field.checked ? "true" : "") : field.value;
        if (value && value !== field.dataset.before && field.checkValidity()) url.searchParams.set(field.dataset.field, value);
      }
      const layers = [...root.querySelectorAll("[data-layer]")];
      if (layers.some((x) => x.checked !== x.defaultChecked) || new URL(location.href).searchParams.has("layers")) {
        url.searchParams.set("layers", layers.filter((x) => x.checked).map((x) => x.dataset.layer).join(","));
      }
      history.replaceState(null, "", url);
      refresh();
    },
    clear() { location.assign(this.$root.dataset.own); },
  }));

  // The camera along its path: the plan's wedge follows at once, the address when the hand lets go.
  Alpine.data("scrub", () => ({
    move(event) {
      const frame = +event.target.value, { frames, stations } = JSON.parse(this.$root.dataset.track);
      let k = 0;
      frames.forEach((f, i) => { if (Math.abs(f - frame) < Math.abs(frames[k] - frame)) k = i; });
      const [x, y, ax, ay, bx, by] = stations[k];
      document.querySelector("[data-wedge]").setAttribute("points", `${x},${y} ${ax},${ay} ${bx},${by}`);
      document.querySelectorAll("[data-round]").forEach((c) => { c.setAttribute("cx", x); c.setAttribute("cy", y); });
      this.$root.querySelector("output").textContent = frame;
    },
    settle(event) {
      const url = new URL(location.href);
      url.searchParams.set("frame", event.target.value);
      visit(url.pathname + url.search);
    },
  }));

  // The picture's tools on the Trials page.
  Alpine.data("welltools", () => ({
    mode: "crop", zoom: "fit", wipe: 50, telling: false,
    get well() { return this.$root.querySelector("picture-well"); },
    set(event) {
      const button = event.currentTarget;
      if (button.dataset.mode) this.mode = this.well.mode = button.dataset.mode;
      if (button.dataset.zoom) { this.zoom = button.dataset.zoom; this.well.setZoom(this.zoom); }
    },
    get crop() { return String(this.mode === "crop"); },
    get look() { return String(this.mode === "look"); },
    // A choice that belongs to the view: into the address.
    choose(event) {
      const url = new URL(location.href);
      url.searchParams.set(event.target.dataset.param, event.target.value);
      event.target.blur();
      visit(url.pathname + url.search);
    },
    // The pointer rests on a place that is to be refined first.
    looked(event) {
      const button = this.$root.querySelector("[data-look]");
      if (!button || this.telling) return;
      this.telling = true;
      // The well counts in pixels of the next trial, the running one in its own.
      const own = button.dataset.lookSize.split(",").map(Number), shown = this.well.size;
      const priority = event.detail.map((v, i) => v * own[i] / shown[i]);
      send("PUT", button.dataset.look, { priority }).then(() => setTimeout(() => { this.telling = false; }, 250));
    },
    get pan() { return String(this.mode === "pan"); },
    get fit() { return String(this.zoom === "fit"); },
    get actual() { return String(this.zoom === "1"); },
    slide(event) { this.wipe = +event.target.value; this.well.setWipe(this.wipe / 100); },
    wiped(event) { this.wipe = Math.round(event.detail * 100); },
    zoomed(event) { this.zoom = event.detail; },
    // A crop was drawn: into the fields and the address.
    drawn(event) {
      const form = document.getElementById("trial");
      event.detail.forEach((v, i) => { form.elements["region_" + i].value = v; });
      const url = new URL(location.href);
      url.searchParams.set("region", event.detail.join(","));
      history.replaceState(null, "", url);
      this.well.setAttribute("data-region", event.detail.join(","));
    },
    typed() {
      const form = document.getElementById("trial");
      const region = [0, 1, 2, 3].map((i) => Math.round(+form.elements["region_" + i].value));
      this.well.setAttribute("data-region", region.join(","));
    },
  }));
});

// Keys 1 to 6 go to the stations.
document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || /^(INPUT|SELECT|TEXTAREA)$/.test(event.target.tagName)) return;
  const link = document.querySelector(`.lane a[data-key="${event.key}"]`);
  if (link) location.assign(link.href);
});

// What the tasks are doing, as the server tells it.  After a reload the page is right without this.
function duration(s) {
  if (s == null) return "";
  if (s < 100) return Math.round(s) + " s";
  const m = Math.round(s / 60);
  return m < 60 ? m + " min" : Math.floor(m / 60) + " h " + String(m % 60).padStart(2, "0");
}
function listen() {
  const href = document.body.dataset.events;
  if (!href) return;
  const source = new EventSource(href);
  let stamp = document.body.dataset.stamp;
  source.onmessage = (event) => {
    const news = JSON.parse(event.data);
    if (news.stamp !== stamp) { stamp = news.stamp; refresh(); }
    for (const task of news.tasks) {
      for (const el of document.querySelectorAll(`[data-task="${task.id}"]`)) {
        const put = (name, text) => el.querySelectorAll(`[data-live="${name}"]`).forEach((x) => { x.textContent = text; });
        put("text", task.text);
        put("share", Math.round(task.share * 100) + " %");
        const live = task.live || {};
        if (live.left != null) put("left", "about " + duration(live.left) + " left");
        if (live.seconds != null) put("seconds", duration(live.seconds));
        if (live.samples != null) put("samples", live.samples.toFixed(1));
        if (live.noise != null) put("noise", (live.noise * 100).toPrecision(3) + " %");
        el.querySelectorAll("progress").forEach((x) => { x.value = task.share; });
        if (el.tagName === "PICTURE-WELL" && live.preview) el.setAttribute("data-live", `/tasks/${task.id}/preview.png?v=${live.preview}`);
        const img = el.querySelector("img[data-preview]");
        if (img && live.preview) img.src = `/tasks/${task.id}/preview.png?v=${live.preview}`;
      }
    }
  };
  window.addEventListener("pagehide", () => source.close());
}
listen();
