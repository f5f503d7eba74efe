import { press, typing } from "./dom.js";

// Records are folded and unfolded; what is folded stays so while the page is open. One whose fields
// were not sent is chosen instead, and comes with them.
const folded = new Set();

export function fold() {
  for (const row of document.querySelectorAll("tr[data-field]")) {
    const parts = row.dataset.field.split(".");
    row.hidden = parts.some((_, i) => i > 0 && folded.has(parts.slice(0, i).join(".")));
    const button = row.querySelector("[data-fold]");
    if (button && folded.has(row.dataset.field)) button.setAttribute("aria-expanded", "false");
  }
}

export function folds() {
  document.addEventListener("click", (e) => {
    const button = e.target.closest("[data-fold]");
    if (!button) return;
    const path = button.dataset.fold, closed = button.getAttribute("aria-expanded") === "false";
    if (closed && !folded.has(path)) return; // the row is chosen, which unfolds it
    e.stopPropagation();
    e.preventDefault();
    if (closed) folded.delete(path);
    else folded.add(path);
    button.setAttribute("aria-expanded", String(closed));
    fold();
  }, true);
  document.addEventListener("keydown", (e) => {
    if (e.key.toLowerCase() !== "f" || e.ctrlKey || e.metaKey || e.altKey || typing(e.target)) return;
    press("tr.sel [data-fold], .maprow.sel [data-twist]");
  });
}
