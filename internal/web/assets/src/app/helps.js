import { entered, fieldOf } from "./codes.js";

// wrongIn are the places of a text that are at fault, as the answer says: counted in characters there, in units of UTF-16 here.
export const wrongIn = (text, faults) => {
  const chars = [...text], at = (n) => chars.slice(0, n).join("").length;
  return faults.map(({ from, to, text: why }) => ({ from: at(from), to: at(to), text: why }));
};

// A field with [data-help] is helped while it is typed in: what could stand at the caret, chosen with the arrow keys and
// Tab or Enter, and the function around it. An entry is taken only from a list that is seen and fits what stands at the
// caret now, and only when the person moved to it or has typed a part of it.
export function helps() {
  let asked = 0, helped = null;
  const box = () => document.querySelector("#help");
  const tell = (name, value) => { value === null ? helped?.removeAttribute(name) : helped?.setAttribute(name, value); helped?.editor?.tell(name, value); };
  const close = () => { asked++; box()?.replaceChildren(); tell("aria-expanded", "false"); tell("aria-activedescendant", null); };
  const caret = (field) => [...field.value.slice(0, field.selectionStart)].length;
  const options = () => [...(box()?.querySelectorAll(".option") ?? [])];
  const ask = async (field) => {
    const mine = ++asked;
    helped = field;
    const at = caret(field), value = field.value;
    const answer = await fetch(`${field.dataset.help}&rule=${encodeURIComponent(value)}&at=${at}`, { headers: { "HX-Request": "true" } });
    const text = await answer.text();
    if (mine !== asked || !answer.ok || entered() !== field || field.value !== value) return;
    box().outerHTML = text;
    box().dataset.at = at;
    underline(field, box());
    tell("aria-expanded", String(options().length > 0));
    place(field);
  };
  // What is wrong is underlined as far as an editor shows the text; when one comes, it is asked what that is.
  const underline = (field, answer) => field.editor?.mark(wrongIn(field.value, JSON.parse(answer.dataset.wrong) ?? []));
  document.addEventListener("hr-editor", async ({ target: field }) => {
    if (!field.matches("[data-help]") || !field.value.trim()) return;
    const value = field.value, answer = await fetch(`${field.dataset.help}&rule=${encodeURIComponent(value)}&at=-1`, { headers: { "HX-Request": "true" } });
    if (!answer.ok) return;
    const text = await answer.text();
    if (field.isConnected && field.value === value) underline(field, new DOMParser().parseFromString(text, "text/html").querySelector("#help"));
  });
  // The list stands under the caret, or above it where there is more room, and always inside of the window.
  const place = (field) => {
    const el = box();
    if (!el?.hasChildNodes() || !el.firstElementChild) return;
    const seen = field.editor?.caret();
    if (seen) return stand(el, seen.left, seen.top, seen.bottom - seen.top);
    const style = getComputedStyle(field), r = field.getBoundingClientRect();
    const probe = document.createElement("span");
    probe.style.cssText = `position:fixed;visibility:hidden;white-space:pre;font:${style.font};letter-spacing:${style.letterSpacing}`;
    const before = field.value.slice(0, field.selectionStart), line = field.matches("textarea") ? before.split("\n") : [before];
    probe.textContent = line.at(-1);
    document.body.append(probe);
    const x = r.left + parseFloat(style.paddingLeft) + Math.min(probe.offsetWidth - field.scrollLeft, r.width - 8);
    const height = field.matches("textarea") ? probe.offsetHeight : r.height;
    probe.remove();
    stand(el, x, field.matches("textarea") ? r.top + (line.length - 1) * height - field.scrollTop : r.top, height);
  };
  const stand = (el, x, top, height) => {
    const below = innerHeight - (top + height) - 8, above = top - 8, room = Math.max(120, Math.min(320, Math.max(below, above)));
    el.style.maxHeight = `${room}px`;
    el.style.left = `${Math.max(8, Math.min(x, innerWidth - el.offsetWidth - 8))}px`;
    const under = below >= Math.min(el.offsetHeight, 320) || below >= above;
    el.style.top = `${under ? top + height + 4 : Math.max(8, top - 4 - el.offsetHeight)}px`;
  };
  const take = (option) => {
    const field = helped, { from, to } = box().dataset, insert = option.dataset.text;
    const chars = [...field.value], before = chars.slice(0, Number(from)).join("");
    const at = before.length + insert.length - (insert.endsWith(")") ? 1 : 0);
    close();
    if (field.editor) return field.editor.put(before.length, chars.slice(0, Number(to)).join("").length, insert, at);
    field.value = before + insert + chars.slice(Number(to)).join("");
    field.focus();
    field.setSelectionRange(at, at);
    field.dispatchEvent(new Event("input", { bubbles: true }));
  };
  const fits = (field) => helped === field && Number(box().dataset.at) === caret(field) && field.selectionStart === field.selectionEnd;
  document.addEventListener("input", (e) => {
    if (!e.target.matches("[data-help]")) return;
    for (const o of options()) o.remove(); // what is seen belongs to what stood there before
    e.target.value.trim() ? ask(e.target) : close();
  });
  document.addEventListener("focusout", ({ target, relatedTarget }) => {
    const field = fieldOf(target);
    if (field.matches("[data-help]") && fieldOf(relatedTarget) !== field) close(); // else its editor has come
  });
  document.addEventListener("selectionchange", () => { if (helped && options().length && entered() === helped && !fits(helped)) close(); });
  addEventListener("resize", close);
  document.addEventListener("htmx:after:swap", () => { if (helped?.isConnected && entered() === helped) place(helped); }); // the field may stand elsewhere now
  document.addEventListener("mousedown", (e) => {
    const option = e.target.closest(".option");
    if (option) { e.preventDefault(); take(option); }
  });
  document.addEventListener("keydown", (e) => {
    const field = fieldOf(e.target);
    if (!field.matches?.("[data-help]")) return;
    const all = options(), at = all.findIndex((o) => o.classList.contains("on"));
    if (e.key === "Escape" && box().firstElementChild) { close(); e.preventDefault(); e.stopImmediatePropagation(); return; }
    if (!all.length && e.key === "ArrowDown" && (field.dataset.code === "formula" || !field.matches("textarea"))) { ask(field); e.preventDefault(); return; }
    if (!all.length || !fits(field)) return;
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (step) {
      const next = all[(at + step + all.length + (at < 0 && step < 0 ? 1 : 0)) % all.length];
      all[at]?.classList.remove("on");
      next.classList.add("on");
      next.scrollIntoView({ block: "nearest" });
      tell("aria-activedescendant", next.id);
    } else if ((e.key === "Tab" && !e.shiftKey || e.key === "Enter") && at >= 0) {
      take(all[at]);
    } else if (e.key === "Tab" && !e.shiftKey && "typed" in all[0].dataset) {
      take(all[0]);
    } else {
      return;
    }
    e.preventDefault();
    e.stopImmediatePropagation();
  }, true);
}
