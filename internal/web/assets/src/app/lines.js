import { press } from "./dom.js";

// A text with [data-lines] around it has its lines numbered; a fault's link goes to its line, and
// Ctrl+S keeps the text.
export function number() {
  for (const box of document.querySelectorAll("[data-lines]")) {
    const [gutter, text] = box.children;
    const lines = text.value.split("\n").length;
    if (Number(gutter.dataset.count) !== lines) gutter.textContent = Array.from({ length: lines }, (_, i) => i + 1).join("\n") + "\n\n";
    gutter.dataset.count = lines;
    gutter.scrollTop = text.scrollTop;
  }
}

export function texts() {
  document.addEventListener("input", (e) => { if (e.target.closest("[data-lines]")) number(); });
  document.addEventListener("scroll", (e) => { if (e.target.closest?.("[data-lines]")) number(); }, true);
  document.addEventListener("click", (e) => {
    const link = e.target.closest("[data-goto]");
    const text = link && document.querySelector(link.getAttribute("href"));
    if (!text) return;
    e.preventDefault();
    if (text.goTo) return text.goTo(Number(link.dataset.goto));
    const lines = text.value.split("\n"), line = Number(link.dataset.goto) - 1;
    const from = lines.slice(0, line).reduce((n, l) => n + l.length + 1, 0);
    text.focus();
    text.setSelectionRange(from, from + (lines[line] ?? "").length);
    text.scrollTop = Math.max(0, (line - 5) * parseFloat(getComputedStyle(text).lineHeight));
  });
  document.addEventListener("keydown", (e) => {
    if (e.key !== "s" || !(e.ctrlKey || e.metaKey) || !document.querySelector("[data-save]")) return;
    e.preventDefault();
    press("[data-save]");
  });
}
