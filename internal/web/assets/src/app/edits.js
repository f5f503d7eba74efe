// What comes is whole at once: no key falls between its being put in and its getting the focus.
htmx.config.defaultSettleDelay = 0;

// A form with data-edit is sent a moment after each change, one request at a time. Its answer
// brings the parts of the page that changed; the field under the caret is left alone.
const unsent = new Set(); // forms with a change that the server has not answered yet

// sent is what every way of a change ends with: nothing waits for this form any more.
function sent(form) {
  if (unsent.delete(form)) document.dispatchEvent(new CustomEvent("hr-sent"));
}

function edits() {
  const states = new WeakMap();
  // One change at a time, of whatever form: each is made of the revision that the one before it has brought.
  let last = Promise.resolve();
  const inTurn = (change) => (last = last.then(change, change));
  let redrawing = false, kept = null, focused = null;
  const send = async (form) => {
    if (!form.isConnected) return sent(form);
    const state = states.get(form);
    if (state.busy) { state.again = true; return; }
    if (redrawing) { state.held = true; return; } // the form that comes takes over what was typed, and sends it
    state.busy = true;
    unsent.add(form);
    try {
      await inTurn(() => form.isConnected && htmx.ajax("POST", form.action, { source: form, target: "#answers", swap: "innerHTML" }));
    } finally {
      state.busy = false;
    }
    if (state.again) { state.again = false; return send(form); }
    if (state.then) { const then = state.then; state.then = null; await then(); }
    if (!state.timer) sent(form); // else more was typed meanwhile
  };
  const stateOf = (form) => {
    if (!states.has(form)) states.set(form, { busy: false, again: false, timer: 0, then: null });
    return states.get(form);
  };
  const flush = (form, state) => {
    clearTimeout(state.timer);
    state.timer = 0;
    return send(form);
  };
  // A choice on which the form itself depends draws it anew; Enter in a name goes on to the next.
  document.addEventListener("change", (e) => {
    const form = e.target.closest("form[data-edit]");
    const row = document.querySelector("[data-pick].sel");
    if (!form || !row || !e.target.matches("[data-redraw]")) return;
    const state = stateOf(form);
    state.then = async () => {
      redrawing = true;
      try { await htmx.ajax("GET", row.getAttribute("hx-get"), { target: "#work", swap: "outerHTML" }); } finally { redrawing = false; }
      if (state.held && form.isConnected) { state.held = false; send(form); } // it was not drawn anew
    };
    if (!state.timer && !state.busy && e.target.tagName !== "SELECT") { state.then(); state.then = null; } // it was sent before
  });
  document.addEventListener("keydown", (e) => {
    const next = e.target.dataset?.next;
    const form = e.target.closest("form[data-edit]");
    if (e.key !== "Enter" || !next || !form) return;
    e.preventDefault();
    const state = stateOf(form);
    ahead.field = "#" + e.target.id;
    ahead.old = e.target;
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
    kept = redrawing ? document.querySelector("form[data-edit]") : null;
    focused = kept?.contains(document.activeElement) ? document.activeElement : null;
    movedAside(focused);
  });
  document.addEventListener("htmx:after:swap", () => {
    for (const form of unsent) if (!form.isConnected && !states.get(form)?.busy) setTimeout(() => sent(form));
    if (movedBack(kept?.action)) focused = null;
    if (!kept || kept.isConnected) return;
    for (const old of kept.elements) {
      const field = old.id && changedHere(old) && document.getElementById(old.id);
      if (!field || field.closest("form[data-edit]")?.action !== kept.action || field.value === old.value) continue;
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

// A select that has the focus stays itself while the form around it is drawn anew, where both offer the same: letters that are
// typed to choose from it mean one choice together, and a fresh one would take the rest of them for another. It is moved aside
// before and back afterwards, by moves that leave it the focus and its letters.
const aside = { select: null, mark: null };
function movedAside(select) {
  if (!select?.matches("select") || !document.body.moveBefore) return;
  Object.assign(aside, { select, mark: document.createComment("") });
  select.before(aside.mark);
  document.body.moveBefore(select, null);
}
function movedBack(action) {
  const { select, mark } = aside;
  aside.select = null;
  if (!select) return false;
  if (mark.isConnected) { mark.parentNode.moveBefore(select, mark); mark.remove(); return true; }
  const drawn = [...document.querySelectorAll(`#${CSS.escape(select.id)}`)].find((el) => el !== select), offers = (el) => [...el.options].map((o) => o.value).join("\n");
  if (!drawn?.matches("select") || drawn.form?.action !== action || offers(drawn) !== offers(select)) {
    select.remove();
    drawn?.focus();
    return false;
  }
  const { value } = select, changed = value !== drawn.value;
  [...drawn.options].forEach((o, i) => { select.options[i].defaultSelected = o.defaultSelected; });
  select.value = value;
  drawn.parentNode.moveBefore(select, drawn);
  drawn.remove();
  for (const name of changed ? ["input", "change"] : []) select.dispatchEvent(new Event(name, { bubbles: true }));
  return true;
}

// typedSince is what was typed into a field behind what the server has drawn.
const typedSince = (el) => el.matches("input, textarea") && el.value.startsWith(el.defaultValue) ? el.value.slice(el.defaultValue.length) : "";

// changedHere says whether a field has another value than the server has drawn.
const changedHere = (el) => el.matches("input:not([type=hidden]), textarea") ? el.value !== el.defaultValue : el.matches("select") && !el.selectedOptions[0]?.defaultSelected && [...el.options].some((o) => o.defaultSelected);
