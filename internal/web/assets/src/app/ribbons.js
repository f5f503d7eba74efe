let pointed = ""; // the name of the row under the mouse

// Ribbons join the rows that the server lists in data-from and data-to.
export function ribbons() {
  const svg = document.querySelector("#ribbons");
  if (!svg) return;
  const box = svg.getBoundingClientRect();
  const lit = new Set();
  const paths = [];
  for (const li of document.querySelectorAll("#links li")) {
    const a = shown(document.querySelector(`[data-source="${CSS.escape(li.dataset.from)}"]`));
    const b = shown(document.querySelector(`[data-target="${CSS.escape(li.dataset.to)}"]`));
    if (!a || !b) continue;
    const ar = a.getBoundingClientRect(), br = b.getBoundingClientRect();
    const y1 = ar.top + ar.height / 2 - box.top, y2 = br.top + br.height / 2 - box.top, w = box.width;
    const d = `M0 ${y1}C${w * .45} ${y1} ${w * .55} ${y2} ${w} ${y2}`;
    const chosen = b.classList.contains("sel") || pointed && (pointed === li.dataset.from || pointed === li.dataset.to);
    if (chosen) { lit.add(a); lit.add(b); }
    paths.push([chosen, chosen
      ? `<path d="${d}" fill="none" stroke="#5f7a1f" stroke-width="6"/><path d="${d}" fill="none" stroke="#fbfaf3" stroke-width="2.8"/>`
      : `<path d="${d}" fill="none" stroke="${li.dataset.kind === "formula" ? "#9a80ab" : "#a3b277"}" stroke-width="1.5"/>`]);
  }
  svg.innerHTML = paths.sort((x, y) => x[0] - y[0]).map((p) => p[1]).join("");
  for (const el of document.querySelectorAll("[data-source], [data-target]")) el.classList.toggle("lit", lit.has(el));
}

// shown is a row, or the nearest around it that is not folded away; null where there is none.
export function shown(row) {
  let depth = Number(row?.dataset.depth);
  while (row?.hidden) {
    do row = row.previousElementSibling; while (row && Number(row.dataset.depth) >= depth);
    depth = Number(row?.dataset.depth);
  }
  return row;
}

// pointAt lights up what feeds the row of a name, or what it feeds.
export function pointAt(name) {
  if (name === pointed) return;
  pointed = name;
  ribbons();
}
