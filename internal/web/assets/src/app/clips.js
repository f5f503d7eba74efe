import { press } from "./dom.js";

// Steps are copied as text, to this flow or another; the clipboard of the computer has them, too, where it may.
function copySteps() {
  const clip = document.querySelector("[data-clip]")?.dataset.clip;
  if (!clip) return false;
  sessionStorage.setItem("hollowreed-steps", clip);
  navigator.clipboard?.writeText(clip).catch(() => {});
  return true;
}

export const clipped = { c: copySteps, x: () => copySteps() && press("[data-cut-step]"), v: () => press("[data-paste]") };

export const clipKey = (e) => (e.ctrlKey || e.metaKey) && !e.shiftKey && clipped[e.key.toLowerCase()] && document.querySelector("#doing") && !String(getSelection());

export function clips() {
  document.addEventListener("click", (e) => {
    if (e.target.closest("[data-copy]") && copySteps()) e.target.closest("details")?.removeAttribute("open");
    if (!e.target.closest("[data-paste]")) return;
    const items = sessionStorage.getItem("hollowreed-steps");
    if (items) document.querySelector("#doing").elements.items.value = items;
    else e.preventDefault();
  }, true);
}
