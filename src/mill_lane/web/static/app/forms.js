// Forms that send their fields as JSON: data-method, action, and what comes after in data-then.
import { clearComplaints, complain, merged, refresh, send, visit } from "./page.js";

// Whether a recipe's form is being typed in: it makes no sense yet, and nobody is told so.
export function isUnfinished(form) {
  if (form.querySelector("input:invalid")) return true;
  const { samples, min_samples: least } = form.elements;
  return Boolean(samples && least) && Number(least.value) > Number(samples.value);
}

export function fieldsOf(form, submitter) {
  // Names may come from a scene (its lights): no ending says what is a list, and none is special.
  const fields = Object.create(null);
  const listed = [...form.elements].filter((field) => field.matches("[data-list]"));
  const lists = new Set(listed.map((field) => field.name));
  for (const [name, value] of new FormData(form)) {
    if (lists.has(name)) fields[name] = [...(fields[name] || []), value];
    else fields[name] = value;
  }
  if (submitter?.name) fields[submitter.name] = submitter.value;
  // A field that stands elsewhere on the page and counts for several forms.
  const also = document.getElementById(submitter?.dataset.also || "");
  if (also) fields[also.name] = also.value;
  return fields;
}

document.addEventListener("alpine:init", () => {
  Alpine.data("act", () => ({
    busy: false,
    pressed: false,
    changed: false,
    next: null,
    async submit(event) {
      if (this.busy) {
        // A button that is pressed again counts once; what is asked for, or changed, while a field
        // is kept comes when that is through.
        if (!event.submitter) this.changed = true;
        else if (!this.pressed) this.next = event.submitter;
        return;
      }
      const form = this.$root;
      const fields = fieldsOf(form, event.submitter);
      this.busy = true;
      this.pressed = Boolean(event.submitter);
      // A button may ask for something else with the same fields.
      const { method, action } = { ...form.dataset, ...event.submitter?.dataset };
      const href = action || form.getAttribute("action");
      const { ok, data } = await send(method || "POST", href, fields);
      this.busy = false;
      if (this.changed || this.next) {
        const { next } = this;
        this.changed = false;
        this.next = null;
        form.requestSubmit(next);
        return;
      }
      if (!ok) {
        complain(form, data);
        return;
      }
      clearComplaints(form);
      if (!data.go || data.go === location.pathname + location.search) await refresh();
      else if (form.dataset.then === "stay") await visit(data.go);
      else if (form.dataset.then === "merge") await visit(merged(data.go));
      else location.assign(data.go);
    },
    // For fields that are kept as soon as they change.
    change() {
      this.$root.requestSubmit();
    },
  }));
  // A button within another form that asks for something by itself.
  Alpine.data("asked", () => ({
    async go() {
      const { ok, data } = await send("POST", this.$root.dataset.href, {});
      if (ok) await refresh();
      else complain(this.$root.parentElement, data);
    },
  }));
  // Fields of a form that stand elsewhere on the page: data-of names it.
  Alpine.data("elsewhere", () => ({
    change() {
      document.getElementById(this.$root.dataset.of).requestSubmit();
    },
    // Puts a line of a list in front of the one before it.
    earlier(event) {
      const line = event.currentTarget.closest("tr");
      line.previousElementSibling?.before(line);
      this.change();
    },
  }));
});
