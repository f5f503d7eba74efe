import { pointAt } from "./ribbons.js";

// What the mouse points at lights up what it feeds, or what feeds it. A field that is dragged onto a
// target field becomes its rule; a list of records onto another, its each.
export function drags() {
  document.addEventListener("mouseover", (e) => {
    const row = e.target.closest("[data-source], [data-target]");
    pointAt(row ? row.dataset.source ?? row.dataset.target : "");
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
