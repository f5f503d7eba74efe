import { closeTopmost } from "./close.js";

// rank says how well a name with a description goes with what is typed, the best first, as the server ranks: the name, its
// beginning, the beginning of a word of it, what is in it, what is in its description. It is -1 where it does not.
export function rank(typed, name, about) {
  const words = typed.split(/\s+/).filter(Boolean), lower = name.toLowerCase();
  const begins = (text, word) => text.toLowerCase().split(/[^\p{L}\p{N}]+/u).some((w) => w.startsWith(word));
  if (lower === typed) return 0;
  if (lower.startsWith(typed)) return 1;
  if (words.every((w) => begins(name, w))) return 2;
  if (words.every((w) => lower.includes(w))) return 3;
  return words.every((w) => lower.includes(w) || begins(about, w)) ? 4 : -1;
}

const visible = (list) => [...list.querySelectorAll(".offer")].filter((o) => !o.hidden).sort((a, b) => Number(a.style.order) - Number(b.style.order));

export const firstOffer = (list) => visible(list)[0];

// A list of buttons is narrowed by what is typed above it, the best first; Enter takes that, and the arrow keys go through
// them.
export function narrow() {
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
