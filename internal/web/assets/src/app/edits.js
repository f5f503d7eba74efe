import { entered, fieldOf } from "./codes.js";
import { ahead } from "./ahead.js";
import { press } from "./dom.js";
import { saveForm } from "./guards.js";
import { posting, sent, unchanging, unsent } from "./pending.js";
import { movedAside, movedBack } from "./selects.js";

// identityOf says what a form changes: where it is sent and what it names there, of whatever revision and place in the data.
const identityOf = (form) => {
  const called = form.elements.called, passing = ["revision", "line", "record", "sample", called && "field"];
  return [form.action, ...[...form.elements].filter((el) => el.type === "hidden" && !passing.includes(el.name)).map((el) => `${el.name}=${el.value}`)].join("\n");
};

const drawnAs = (el) => el.matches("select") ? [...el.options].find((o) => o.defaultSelected)?.value : el.defaultValue;

export function edits() {
  document.addEventListener("htmx:before:request", ({ detail: { ctx } }) => { if (ctx.request.method !== "GET") posting.set(ctx, ctx.request.form); });
  document.addEventListener("htmx:finally:request", ({ detail: { ctx } }) => { posting.delete(ctx); });
  const states = new WeakMap();
  // One change at a time, of whatever form or button: each is made of the revision that the one before it has brought.
  let last = Promise.resolve();
  const inTurn = (change) => {
    const alone = () => unchanging().then(change);
    return (last = last.then(alone, alone));
  };
  let redrawing = false, kept = null, carries = false, focused = null;
  const redraw = async () => {
    const row = document.querySelector("[data-pick].sel");
    if (!row) return;
    redrawing = true;
    try { await htmx.ajax("GET", row.getAttribute("hx-get"), { target: "#work", swap: "outerHTML" }); } finally { redrawing = false; }
    for (const form of unsent) if (states.get(form)?.held && form.isConnected) { states.get(form).held = false; send(form); } // it was not drawn anew
  };
  // A form whose place another has taken meanwhile is sent all the same, with the revision that the page has now, unless
  // the one that came has taken over what was typed.
  const pass = async (form) => {
    if (form.isConnected) return htmx.ajax("POST", form.action, { source: form, target: "#answers", swap: "innerHTML" });
    if (!states.get(form).takenOver && await saveForm(form)) return redraw();
  };
  const send = async (form) => {
    const state = states.get(form);
    if (state.busy) { state.again = true; return; }
    if (redrawing) { state.held = true; return; } // the form that comes takes over what was typed, and sends it
    state.busy = true;
    unsent.add(form);
    try {
      await inTurn(() => pass(form));
    } finally {
      state.busy = false;
    }
    if (state.again) { state.again = false; return send(form); }
    if (state.then) { const then = state.then; state.then = null; await then(); }
    if (!state.timer) sent(form); // else more was typed meanwhile
  };
  const stateOf = (form) => {
    if (!states.has(form)) states.set(form, { busy: false, again: false, held: false, takenOver: false, timer: 0, then: null });
    return states.get(form);
  };
  const flush = (form, state) => {
    clearTimeout(state.timer);
    state.timer = 0;
    return send(form);
  };
  const gone = (form) => {
    const state = states.get(form);
    if (!unsent.has(form) || state.busy) return;
    if (!state.takenOver) return flush(form, state);
    clearTimeout(state.timer);
    sent(form);
  };
  // A choice on which the form itself depends draws it anew; Enter in a name goes on to the next.
  document.addEventListener("change", (e) => {
    const form = e.target.closest("form[data-edit]");
    const row = document.querySelector("[data-pick].sel");
    if (!form || !row || !e.target.matches("[data-redraw]")) return;
    const state = stateOf(form);
    state.then = redraw;
    if (!state.timer && !state.busy && e.target.tagName !== "SELECT") { state.then(); state.then = null; } // it was sent before
  });
  document.addEventListener("keydown", (e) => {
    const field = fieldOf(e.target), next = field.dataset?.next;
    const form = field.closest?.("form[data-edit]");
    if (e.key !== "Enter" || e.shiftKey || !next || !form) return;
    e.preventDefault();
    const state = stateOf(form);
    ahead.field = "#" + field.id;
    ahead.old = field;
    state.then = () => { if (form.querySelector("#verdict .fault") || !press(next)) Object.assign(ahead, { field: "", typed: "", once: false }); };
    flush(form, state);
  });
  document.addEventListener("input", (e) => {
    const form = e.target.closest("form[data-edit]");
    if (!form || e.target.form !== form) return;
    const state = stateOf(form);
    clearTimeout(state.timer);
    unsent.add(form);
    state.timer = setTimeout(() => flush(form, state), e.target.tagName === "SELECT" ? 0 : 250);
  });
  // What was typed is sent when its field is left, so that what comes next finds it kept.
  document.addEventListener("change", (e) => {
    const form = e.target.closest("form[data-edit]"), state = form && states.get(form);
    if (state?.timer && e.target.tagName !== "SELECT") flush(form, state);
  });
  document.addEventListener("submit", (e) => { if (e.target.matches("form[data-edit]")) e.preventDefault(); });
  // A form that is drawn anew keeps what was typed into it meanwhile, up to the moment in which it goes.
  document.addEventListener("htmx:before:swap", () => {
    const form = document.querySelector("form[data-edit]");
    carries = redrawing;
    kept = redrawing || unsent.has(form) ? form : null;
    focused = kept?.contains(entered()) ? entered() : null;
    movedAside(focused);
  });
  document.addEventListener("htmx:after:swap", () => {
    for (const form of unsent) if (!form.isConnected && !states.get(form).busy) setTimeout(() => gone(form));
    if (movedBack(kept?.action)) focused = null;
    if (!kept || kept.isConnected) return;
    const now = [...document.querySelectorAll("form[data-edit]")].find((form) => form.action === kept.action);
    if (!now || !carries && identityOf(now) !== identityOf(kept)) return;
    const here = [...kept.elements].filter((old) => old.id && changedHere(old)).map((old) => [old, now.querySelector(`#${CSS.escape(old.id)}`)]);
    if (!carries && here.some(([old, field]) => !field || drawnAs(field) !== drawnAs(old))) return; // another stands there
    stateOf(kept).takenOver = true;
    for (const [old, field] of here) {
      if (!field || field.value === old.value) continue;
      const more = typedSince(field); // it has the focus already
      field.value = old.value + more;
      field.dispatchEvent(new Event("input", { bubbles: true }));
      if (field.matches("select[data-redraw]")) field.dispatchEvent(new Event("change", { bubbles: true }));
      if (more) focused = null;
    }
    const field = focused && document.getElementById(focused.id);
    if (field) {
      field.focus();
      try { field.setSelectionRange(focused.selectionStart, focused.selectionEnd); } catch { /* a field without a caret */ }
    }
    kept = focused = null;
  });
}

// typedSince is what was typed into a field behind what the server has drawn.
const typedSince = (el) => el.matches("input, textarea") && el.value.startsWith(el.defaultValue) ? el.value.slice(el.defaultValue.length) : "";

// changedHere says whether a field has another value than the server has drawn.
const changedHere = (el) => el.matches("input:not([type=hidden]), textarea") ? el.value !== el.defaultValue : el.matches("select") && !el.selectedOptions[0]?.defaultSelected && [...el.options].some((o) => o.defaultSelected);
