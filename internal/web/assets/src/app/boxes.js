// A box with data-all ticks all boxes that it names; a select with data-submit sends its form when something is chosen.
export function boxes() {
  document.addEventListener("change", (e) => {
    const all = e.target.dataset?.all;
    if (all) document.querySelectorAll(all).forEach((box) => { box.checked = e.target.checked; });
    if (e.target.matches?.("select[data-submit]")) e.target.form.requestSubmit();
  });
}
