import { fieldOf } from "./codes.js";

// Picking a source row writes its name into the formula at the caret: the one that was last typed in.
export function sources() {
  let last = null;
  document.addEventListener("focusin", (e) => { if (fieldOf(e.target).matches("[data-help]")) last = fieldOf(e.target); });
  document.addEventListener("click", (e) => {
    const row = !e.target.closest("[data-apart]") && e.target.closest("[data-insert]");
    const field = last?.isConnected ? last : document.querySelector("#formula");
    if (!row || !field) return;
    const at = field.selectionStart ?? field.value.length;
    field.setRangeText(row.dataset.insert, at, field.selectionEnd ?? at, "end");
    field.dispatchEvent(new Event("input", { bubbles: true }));
    field.focus();
  });
}
