// Ribbons join the rows that the server lists in data-from and data-to.
function ribbons() {
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
function shown(row) {
  let depth = Number(row?.dataset.depth);
  while (row?.hidden) {
    do row = row.previousElementSibling; while (row && Number(row.dataset.depth) >= depth);
    depth = Number(row?.dataset.depth);
  }
  return row;
}

// Rows of a tree are folded, found by name and left out by what they are; what is chosen stays so while
// the page is open. A row that is found brings those around it.
const twisted = new Set(), sought = new Map(), only = new Map();
const rowName = (row) => row.dataset.source ?? row.dataset.target;
function trees() {
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

function twists() {
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

// What the mouse points at lights up what it feeds, or what feeds it. A field that is dragged onto a
// target field becomes its rule; a list of records onto another, its each.
let pointed = "";
function drags() {
  document.addEventListener("mouseover", (e) => {
    const row = e.target.closest("[data-source], [data-target]");
    const now = row ? row.dataset.source ?? row.dataset.target : "";
    if (now !== pointed) { pointed = now; ribbons(); }
  });
  let dragged = null;
  document.addEventListener("dragstart", (e) => {
    dragged = e.target.closest?.("[data-source][data-insert]");
    if (dragged) e.dataTransfer.setData("text/plain", dragged.dataset.insert);
  });
  const target = (e) => dragged && e.target.closest?.("[data-target]");
  document.addEventListener("dragover", (e) => { if (target(e)) e.preventDefault(); });
  document.addEventListener("drop", async (e) => {
    const row = target(e), form = document.querySelector("form[data-edit]");
    if (!row || !form) return;
    e.preventDefault();
    const lists = "list" in dragged.dataset && "list" in row.dataset;
    const value = (name) => form.elements[name]?.value ?? "";
    const values = { field: row.dataset.target, rule: dragged.dataset.insert, kind: lists ? "each" : "formula", as: lists ? dragged.dataset.list : "",
      revision: value("revision"), record: value("record"), sample: value("sample"), show: value("show") };
    dragged = null;
    await htmx.ajax("POST", form.action, { source: "#ribbons", target: "#answers", swap: "innerHTML", values });
    await htmx.ajax("GET", row.getAttribute("href"), { target: "#work", swap: "outerHTML" });
  });
}

// Picking a source row writes its name into the formula at the caret: the one that was last typed in.
function sources() {
  let last = null;
  document.addEventListener("focusin", (e) => { if (e.target.matches("[data-help]")) last = e.target; });
  document.addEventListener("click", (e) => {
    const row = !e.target.closest("[data-apart]") && e.target.closest("[data-insert]");
    const field = last?.isConnected ? last : document.querySelector("#formula");
    if (!row || !field) return;
    const at = field.selectionStart ?? field.value.length;
    field.setRangeText(row.dataset.insert, at, field.selectionEnd ?? at, "end");
    field.focus();
    field.dispatchEvent(new Event("input", { bubbles: true }));
  });
}

// Records are folded and unfolded; what is folded stays so while the page is open. One whose fields
// were not sent is chosen instead, and comes with them.
const folded = new Set();
function fold() {
  for (const row of document.querySelectorAll("tr[data-field]")) {
    const parts = row.dataset.field.split(".");
    row.hidden = parts.some((_, i) => i > 0 && folded.has(parts.slice(0, i).join(".")));
    const button = row.querySelector("[data-fold]");
    if (button && folded.has(row.dataset.field)) button.setAttribute("aria-expanded", "false");
  }
}

function folds() {
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
