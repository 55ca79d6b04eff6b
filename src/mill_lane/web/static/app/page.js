// Bringing the page up to date, going to another view of it, telling what went wrong.
const PATIENCE = 20000; // milliseconds that a request may take before later ones go first

const LATER = 2000; // milliseconds until it is tried again where the server did not answer

const page = () => document.getElementById("page");
const DRAWS_ITSELF = new Set(["IMAGE-VIEWER", "FIRST-LOOK", "FILM-STRIP"]);
const typedIn = /^(INPUT|SELECT|TEXTAREA)$/;

// Whether a box to be ticked is about to become another one, as where a list got a new order.
function becomesAnother(el, to) {
  const ticked = el.tagName === "INPUT" && (el.type === "checkbox" || el.type === "radio");
  return ticked && to.type === el.type && (el.name !== to.name || el.value !== to.value);
}

// The viewer draws itself: only its attributes are taken over.
function takeAttributes(el, to) {
  for (const name of el.getAttributeNames()) {
    if (!to.hasAttribute(name) && name.startsWith("data-")) el.removeAttribute(name);
  }
  for (const a of to.attributes) {
    if (el.getAttribute(a.name) !== a.value) el.setAttribute(a.name, a.value);
  }
}

// What is being typed in, by what it is found again where the field is made anew.
function typing() {
  const el = document.activeElement;
  if (!el || !typedIn.test(el.tagName) || !page().contains(el)) return null;
  const action = el.form?.getAttribute("action") ?? "";
  const { id, name, value, selectionStart, selectionEnd } = el;
  return { el, id, name, value, action, selectionStart, selectionEnd };
}

function typeOn(was) {
  if (!was || (was.el.isConnected && document.activeElement === was.el)) return;
  const alike = [...page().querySelectorAll(was.el.tagName)].find((el) => {
    if (was.id) return el.id === was.id;
    const action = el.form?.getAttribute("action") ?? "";
    return was.name && el.name === was.name && action === was.action;
  });
  if (!alike) return;
  if (alike.type !== "checkbox" && alike.type !== "radio") alike.value = was.value;
  alike.focus({ preventScroll: true });
  if (was.selectionStart === null || was.selectionStart === undefined) return;
  alike.setSelectionRange?.(was.selectionStart, was.selectionEnd);
}

function morph(next) {
  const focused = typing();
  // What went wrong is told by this page alone: it stays until the artist tries again.
  const alerts = [...page().querySelectorAll(".message[role=alert]")];
  const told = alerts.map((box) => [box.parentElement, box]);
  for (const box of alerts) box.remove();
  Alpine.morph(page(), next.getElementById("page"), {
    updating(el, to, _childrenOnly, skip) {
      if (el.nodeType !== 1) return;
      if (becomesAnother(el, to)) {
        el.checked = to.checked; // what was ticked was meant for the other
        return;
      }
      // What the artist opened or shut stays so.
      if (el.tagName === "DETAILS" && to.tagName === "DETAILS") to.open = el.open;
      if (el === document.activeElement && typedIn.test(el.tagName)) skip();
      else if (DRAWS_ITSELF.has(el.tagName)) {
        takeAttributes(el, to);
        skip();
      }
    },
    updated(el, to) {
      // A choice that belongs to the address follows it; what is chosen in a form stays.
      if (el.nodeType !== 1 || el.tagName !== "SELECT" || !el.dataset.param) return;
      const chosen = to.querySelector("option[selected]");
      if (chosen) el.value = chosen.value;
    },
  });
  typeOn(focused);
  for (const [place, box] of told) if (place.isConnected) place.prepend(box);
  document.title = next.title;
  document.dispatchEvent(new Event("drawn-anew"));
}

// Fetch this very address again and take over what changed.
let refreshing = null;
export async function refresh() {
  if (refreshing) {
    refreshing.again = true;
    return;
  }
  refreshing = { again: false };
  let failed = false;
  try {
    const answer = await fetch(location.href, {
      headers: { Accept: "text/html" },
      signal: AbortSignal.timeout(PATIENCE),
    });
    failed = answer.status >= 500;
    if (answer.ok) morph(new DOMParser().parseFromString(await answer.text(), "text/html"));
  } catch (e) {
    if (e.name !== "TimeoutError" && e.name !== "TypeError") throw e;
    failed = true;
  } finally {
    const { again } = refreshing;
    refreshing = null;
    if (again) refresh();
    // Nothing else may ever tell of what is missing.
    else if (failed) setTimeout(refresh, LATER);
  }
}

// Go to another view of the same page (a selection, a tab) without losing the scroll position.
export function visit(href) {
  history.pushState(null, "", href);
  return refresh();
}
window.addEventListener("popstate", refresh);

// The same address with one parameter changed; an empty value takes it out.
export function withParam(name, value) {
  const url = new URL(location.href);
  if (value) url.searchParams.set(name, value);
  else url.searchParams.delete(name);
  return url.pathname + url.search;
}

// This address with the parameters of another: what that one does not name stays, and what it leaves
// empty goes.
export function merged(href) {
  const url = new URL(location.href);
  const to = new URL(href, location.href);
  for (const [name, value] of to.searchParams) {
    if (value) url.searchParams.set(name, value);
    else url.searchParams.delete(name);
  }
  return to.pathname + url.search;
}

export function clearComplaints(place) {
  for (const old of place.querySelectorAll(":scope > .message[role=alert]")) old.remove();
}

export function complain(place, problem) {
  const box = document.createElement("div");
  box.className = "message";
  box.setAttribute("role", "alert");
  const lines = [
    problem.error || "The server did not answer.",
    problem.kept,
    problem.hint || "Check that Mill Lane is still running, then try again.",
  ];
  lines.forEach((text, i) => {
    if (!text) return;
    const p = document.createElement("p");
    p.textContent = text;
    if (i === 0) p.className = "font-semibold";
    box.append(p);
  });
  clearComplaints(place);
  place.prepend(box);
}

export async function send(method, href, body) {
  try {
    const answer = await fetch(href, {
      method,
      headers: { "Content-Type": "application/json", Accept: "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
    return { ok: answer.ok, data: await answer.json().catch(() => ({})) };
  } catch {
    return { ok: false, data: {} };
  }
}
