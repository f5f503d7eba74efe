// A step is dragged to a gap of the drawing; the form of changes moves it there.
export function carries() {
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
