import { ribbons } from "./ribbons.js";

// Rows of a tree are folded, found by name and left out by what they are; what is chosen stays so while
// the page is open. A row that is found brings those around it.
const twisted = new Set(), sought = new Map(), only = new Map();

const rowName = (row) => row.dataset.source ?? row.dataset.target;

export function trees() {
  for (const tree of document.querySelectorAll("[data-tree]")) {
    const key = "#" + tree.id, text = (sought.get(key) ?? "").toLowerCase(), is = only.get(key);
    const rows = [...tree.querySelectorAll("[data-depth]")], around = [];
    const wanted = (row) => (!text || rowName(row).split(/[./]/).pop().toLowerCase().includes(text)) && (!is || row.dataset.is === is);
    let folded = Infinity;
    for (const row of rows) {
      const depth = Number(row.dataset.depth);
      around.length = depth;
      around[depth] = row;
      if (depth <= folded) folded = Infinity;
      row.hidden = text || is ? !wanted(row) : depth > folded;
      if ((text || is) && !row.hidden) for (const r of around) if (r) r.hidden = false;
      const twist = row.querySelector("[data-twist]"), closed = twisted.has(rowName(row));
      if (twist) twist.setAttribute(twist.matches("button") ? "aria-expanded" : "data-shut", String(twist.matches("button") ? !closed : closed));
      if (closed && depth < folded) folded = depth;
    }
    for (const b of document.querySelectorAll("[data-only]")) b.setAttribute("aria-pressed", String(only.get(b.dataset.of) === b.dataset.only));
    for (const f of document.querySelectorAll("[data-find]")) if (f.value !== (sought.get(f.dataset.find) ?? "")) f.value = sought.get(f.dataset.find) ?? "";
  }
}

export function twists() {
  const draw = () => { trees(); ribbons(); };
  document.addEventListener("click", (e) => {
    const twist = e.target.closest("[data-twist]"), toggle = e.target.closest("[data-only]");
    if (twist) {
      const name = rowName(twist.closest("[data-depth]"));
      if (!twisted.delete(name)) twisted.add(name);
      e.preventDefault();
      e.stopPropagation();
    } else if (toggle) {
      const { of, only: is } = toggle.dataset;
      only.set(of, only.get(of) === is ? "" : is);
    } else {
      return;
    }
    draw();
  }, true);
  document.addEventListener("input", (e) => {
    if (!e.target.matches("[data-find]")) return;
    sought.set(e.target.dataset.find, e.target.value);
    draw();
  });
}
