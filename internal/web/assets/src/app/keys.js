import { expect, giveUp } from "./ahead.js";
import { clipKey, clipped } from "./clips.js";
import { closeTopmost, showKeys } from "./close.js";
import { press, typing } from "./dom.js";
import { unsent } from "./pending.js";

// A key that comes while an answer is on its way waits for it: it means the page that will be there,
// and a link that has been drawn but not yet taken over by htmx would load a whole page.
const moves = new Set(["/", "[", "]", "ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown"]);

function afterAnswers(act) {
  const underway = new Set(), waiting = [];
  document.addEventListener("htmx:before:request", (e) => underway.add(e.detail.ctx));
  const quiet = () => !underway.size && !unsent.size && !waiting.length;
  // One at a time, each on the page that the one before it has brought.
  const next = () => {
    if (underway.size || unsent.size || !waiting.length) return;
    act(waiting.shift());
    setTimeout(next, 0);
  };
  document.addEventListener("htmx:finally:request", (e) => {
    underway.delete(e.detail.ctx);
    setTimeout(next, 0);
    setTimeout(() => { if (quiet()) giveUp(); }, 50);
  });
  document.addEventListener("hr-sent", () => setTimeout(next, 0));
  return (e) => {
    if (quiet() || !moves.has(e.key) && !hot(e) && !clipKey(e)) return act(e);
    if (waiting.length < 20) waiting.push(e);
    expect(hot(e));
    e.preventDefault();
  };
}

export function keys() {
  const turn = afterAnswers(pressed);
  document.addEventListener("keydown", (e) => typing(e.target) ? pressed(e) : turn(e));
}

// While something is half open, letters are no commands: they are about what is open.
const halfOpen = () => !!document.querySelector("details.menu[open], #panel [data-narrow]");

function pressed(e) {
  if ((e.ctrlKey || e.metaKey) && e.key === "Enter" && press("[data-key=try]")) return e.preventDefault();
  if (typing(e.target)) {
    if (e.key === "Escape") closeTopmost();
    if (e.key === "ArrowDown" && e.target.id === "find") { document.querySelector("#found a")?.focus(); e.preventDefault(); }
    if (e.key === "Enter" && e.target.id === "find") { openFirst(e.target); e.preventDefault(); }
    return;
  }
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z" && press(e.shiftKey ? "[data-key=redo]" : "[data-key=undo]")) return e.preventDefault();
  if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "y" && press("[data-key=redo]")) return e.preventDefault();
  if (clipKey(e) && clipped[e.key.toLowerCase()]()) return e.preventDefault();
  if (e.ctrlKey || e.metaKey || e.altKey) return;
  if (e.target.matches?.("[data-cut]") && cuts(e)) return e.preventDefault();
  if (e.key === "Escape") return closeTopmost();
  if (e.key === "?") return showKeys();
  if (halfOpen() && e.key.length === 1 && e.key !== "/") return;
  const button = hot(e);
  expect(button);
  if (button) { button.matches("input, textarea") ? setTimeout(() => button.select()) : button.click(); return e.preventDefault(); }
  if (e.key === "/") { document.querySelector("#find").focus(); return e.preventDefault(); }
  arrows(e);
}

// openFirst opens the first thing that was found, as soon as what was typed has been looked for.
function openFirst(field) {
  const typed = field.value.trim(), fresh = () => document.querySelector("#found [data-found]")?.dataset.found === typed;
  if (!typed || fresh()) { press("#found a"); return; }
  const open = () => {
    if (!fresh()) return;
    document.removeEventListener("htmx:after:swap", open);
    press("#found a");
  };
  document.addEventListener("htmx:after:swap", open);
  field.addEventListener("input", () => document.removeEventListener("htmx:after:swap", open), { once: true });
}

// hot is the button of the page that a key stands for, as data-hot="Shift+ArrowUp" says.
function hot(e) {
  if (e.ctrlKey || e.metaKey || e.altKey) return null;
  const key = e.key.length === 1 ? e.key.toLowerCase() : e.key;
  return document.querySelector(`[data-hot="${CSS.escape((e.shiftKey && e.key.length > 1 ? "Shift+" : "") + key)}"]`);
}

// On the ruler arrow keys go from one place to cut to the next; with shift they move the cut there.
function cuts(e) {
  const step = { ArrowRight: 1, ArrowLeft: -1 }[e.key];
  if (!step) return false;
  const at = Number(e.target.dataset.cut);
  if (e.shiftKey) {
    htmx.ajax("POST", e.target.getAttribute("hx-post"), { source: "#ruler", target: "#work", swap: "outerHTML",
      values: { op: step > 0 ? "right" : "left", column: at, revision: document.querySelector("#revision").value } })
      .then(() => document.querySelector(`[data-cut="${at + step}"]`)?.focus());
  } else {
    document.querySelector(`[data-cut="${at + step}"]`)?.focus();
  }
  return true;
}

// Arrow keys move the selection: [data-prev]/[data-next] links for records, and the neighbours of
// the selected [data-pick] for steps, rules and rows.
function arrows(e) {
  if (e.key === "[" ) return press("[data-key=before]");
  if (e.key === "]" ) return press("[data-key=after]");
  const vertical = document.querySelector("[data-pick=row]");
  const step = vertical ? { ArrowDown: 1, ArrowUp: -1 }[e.key] : { ArrowRight: 1, ArrowLeft: -1 }[e.key];
  if (e.key === "Enter" && vertical && !e.target.closest?.("button, summary, a:not(.sel)")) { document.querySelector("#formula, #f-name")?.select(); return; }
  if (!step) return;
  const all = [...document.querySelectorAll("[data-pick]:not([hidden])")];
  const at = all.findIndex((el) => el.classList.contains("sel"));
  const next = all[Math.max(0, Math.min(all.length - 1, at + step))];
  if (next) { next.dispatchEvent(new MouseEvent("click", { bubbles: true, cancelable: true })); next.scrollIntoView?.({ block: "nearest" }); e.preventDefault(); }
}
