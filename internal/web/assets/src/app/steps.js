// rank says how well a name with a description goes with what is typed, the best first, as the server ranks: the name, its
// beginning, the beginning of a word of it, what is in it, what is in its description. It is -1 where it does not.
function rank(typed, name, about) {
  const words = typed.split(/\s+/).filter(Boolean), lower = name.toLowerCase();
  const begins = (text, word) => text.toLowerCase().split(/[^\p{L}\p{N}]+/u).some((w) => w.startsWith(word));
  if (lower === typed) return 0;
  if (lower.startsWith(typed)) return 1;
  if (words.every((w) => begins(name, w))) return 2;
  if (words.every((w) => lower.includes(w))) return 3;
  return words.every((w) => lower.includes(w) || begins(about, w)) ? 4 : -1;
}

const visible = (list) => [...list.querySelectorAll(".offer")].filter((o) => !o.hidden).sort((a, b) => Number(a.style.order) - Number(b.style.order));
const firstOffer = (list) => visible(list)[0];

// A list of buttons is narrowed by what is typed above it, the best first; Enter takes that, and the arrow keys go through
// them.
function narrow() {
  document.addEventListener("input", (e) => {
    const list = e.target.dataset?.narrow && document.querySelector(e.target.dataset.narrow);
    if (!list) return;
    const typed = e.target.value.trim().toLowerCase();
    list.classList.toggle("ranked", typed !== "");
    [...list.querySelectorAll(".offer")].forEach((o, i) => {
      const at = typed ? rank(typed, o.dataset.name, o.dataset.text) : 0;
      o.hidden = at < 0;
      o.style.order = ("fits" in o.dataset && at < 3 ? 0 : at + 1) * 1000 + i; // what fits what is in scope comes before all
    });
    for (const g of list.querySelectorAll("[data-group]")) g.hidden = !g.querySelector(".offer:not([hidden])");
  });
  document.addEventListener("keydown", (e) => {
    const field = e.target.closest?.("[data-narrow]"), offer = e.target.closest?.(".offer");
    if (!field && !offer) return;
    const list = field ? document.querySelector(field.dataset.narrow) : offer.closest(".offers");
    const all = visible(list), step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (e.key === "Escape") { closeTopmost(); e.preventDefault(); e.stopImmediatePropagation(); return; }
    if (!step) return;
    const at = offer ? all.indexOf(offer) + step : 0;
    (all[at] ?? document.querySelector(`[data-narrow="#${list.id}"]`))?.focus();
    e.preventDefault();
    e.stopImmediatePropagation();
  }, true);
  document.addEventListener("submit", (e) => { // Enter in the field means the best offer, not the first of the page
    const field = e.target.querySelector?.("[data-narrow]");
    if (!field || document.activeElement !== field) return;
    const first = firstOffer(document.querySelector(field.dataset.narrow));
    if (e.submitter === first) return;
    e.preventDefault();
    e.stopImmediatePropagation();
    if (first) setTimeout(() => e.target.requestSubmit(first)); // not within the submission that was stopped
  }, true);
  document.addEventListener("htmx:after:swap", () => document.querySelector("#panel [data-narrow]")?.focus());
}

// Steps are copied as text, to this flow or another; the clipboard of the computer has them, too, where it may.
function copySteps() {
  const clip = document.querySelector("[data-clip]")?.dataset.clip;
  if (!clip) return false;
  sessionStorage.setItem("hollowreed-steps", clip);
  navigator.clipboard?.writeText(clip).catch(() => {});
  return true;
}

const clipped = { c: copySteps, x: () => copySteps() && press("[data-cut-step]"), v: () => press("[data-paste]") };
const clipKey = (e) => (e.ctrlKey || e.metaKey) && !e.shiftKey && clipped[e.key.toLowerCase()] && document.querySelector("#doing") && !String(getSelection());

function clips() {
  document.addEventListener("click", (e) => {
    if (e.target.closest("[data-copy]") && copySteps()) e.target.closest("details")?.removeAttribute("open");
    if (!e.target.closest("[data-paste]")) return;
    const items = sessionStorage.getItem("hollowreed-steps");
    if (items) document.querySelector("#doing").elements.items.value = items;
    else e.preventDefault();
  }, true);
}

// A step is dragged to a gap of the drawing; the form of changes moves it there.
function carries() {
  let from = null, carried = false;
  const gapAt = (x, y) => {
    let best = null, least = 40;
    for (const g of document.querySelectorAll(".gap")) {
      const r = g.getBoundingClientRect(), d = Math.hypot(r.left + r.width / 2 - x, r.top + r.height / 2 - y);
      if (d < least) { best = g; least = d; }
    }
    return best;
  };
  document.addEventListener("pointerdown", (e) => {
    const node = e.button === 0 && e.target.closest?.("[data-drag] [data-step]");
    carried = false;
    from = node && node.dataset.step !== "trigger" ? { step: node.dataset.step, x: e.clientX, y: e.clientY } : null;
  });
  document.addEventListener("pointermove", (e) => {
    if (!from || !carried && Math.hypot(e.clientX - from.x, e.clientY - from.y) < 7) return;
    carried = true;
    document.querySelector("[data-drag]").classList.add("carrying");
    for (const g of document.querySelectorAll(".gap.near")) g.classList.remove("near");
    gapAt(e.clientX, e.clientY)?.classList.add("near");
  });
  document.addEventListener("pointerup", (e) => {
    document.querySelector("[data-drag]")?.classList.remove("carrying");
    const gap = from && carried && gapAt(e.clientX, e.clientY), form = document.querySelector("#doing");
    if (gap && form) {
      const values = Object.fromEntries(["revision", "record", "sample", "fold"].map((name) => [name, form.elements[name].value]));
      htmx.ajax("POST", form.action, { source: form, target: "#work", swap: "outerHTML", values: { ...values, do: "move", step: from.step, count: 1, gap: gap.dataset.gap } });
    }
    from = null;
  });
  document.addEventListener("click", (e) => { // the click that ends a drag chooses nothing
    if (!carried) return;
    carried = false;
    if (e.target.closest?.("[data-drag]")) { e.preventDefault(); e.stopImmediatePropagation(); }
  }, true);
  document.addEventListener("dragstart", (e) => { if (e.target.closest?.("[data-drag]")) e.preventDefault(); });
}
