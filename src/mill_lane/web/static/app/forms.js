// Forms that send their fields as JSON: data-method, action, and what comes after in data-then.
import { clearComplaints, complain, refresh, send, visit } from "./page.js";

function fieldsOf(form, submitter) {
  const fields = {};
  for (const [name, value] of new FormData(form)) {
    if (name.endsWith("[]")) {
      const key = name.slice(0, -2);
      fields[key] = [...(fields[key] || []), value];
    } else fields[name] = value;
  }
  if (submitter?.name) fields[submitter.name] = submitter.value;
  return fields;
}

document.addEventListener("alpine:init", () => {
  Alpine.data("act", () => ({
    busy: false,
    async submit(event) {
      if (this.busy) return;
      const form = this.$root;
      const fields = fieldsOf(form, event.submitter);
      this.busy = true;
      const method = form.dataset.method || "POST";
      const { ok, data } = await send(method, form.getAttribute("action"), fields);
      this.busy = false;
      if (!ok) {
        complain(form, data);
        return;
      }
      clearComplaints(form);
      if (!data.go || data.go === location.pathname + location.search) await refresh();
      else if (form.dataset.then === "stay") await visit(data.go);
      else location.assign(data.go);
    },
    // For fields that are kept as soon as they change.
    change() {
      this.$root.requestSubmit();
    },
  }));
});
