// What the tasks are doing, as the server tells it.  After a reload the page is right without this.
import { refresh } from "./page.js";

function show(task, el) {
  for (const [name, text] of Object.entries(task.said)) {
    for (const place of el.querySelectorAll(`[data-live="${name}"]`)) place.textContent = text;
  }
  for (const bar of el.querySelectorAll("progress")) bar.value = task.share;
  if (!task.preview) return;
  const href = `/tasks/${task.id}/preview.png?v=${task.preview}`;
  if (el.tagName === "IMAGE-VIEWER") el.setAttribute("data-live", href);
  const img = el.querySelector("img[data-preview]");
  if (img) img.src = href;
}

// What keeps work from being done: the same line that a page has when it is drawn.
function showTroubles(troubles) {
  const place = document.querySelector("[data-troubles]");
  const said = troubles.map((text) => `${text} What waits goes on by itself when it can.`);
  if ([...place.children].map((p) => p.textContent).join() === said.join()) return;
  place.replaceChildren(
    ...said.map((text) => {
      const p = document.createElement("p");
      p.className = "message look";
      p.textContent = text;
      return p;
    }),
  );
}

export function listen() {
  const href = document.body.dataset.events;
  if (!href) return;
  const source = new EventSource(href);
  let { stamp } = document.body.dataset;
  source.onmessage = (event) => {
    const news = JSON.parse(event.data);
    if (news.stamp !== stamp) {
      ({ stamp } = news);
      refresh();
    }
    showTroubles(news.troubles);
    for (const task of news.tasks) {
      for (const el of document.querySelectorAll(`[data-task="${task.id}"]`)) show(task, el);
    }
  };
  window.addEventListener("pagehide", () => source.close());
}
