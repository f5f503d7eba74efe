// A field with [data-help] is helped while it is typed in: what could stand at the caret, chosen with the arrow keys and
// Tab or Enter, and the function around it. An entry is taken only from a list that is seen and fits what stands at the
// caret now, and only when the person moved to it or has typed a part of it.
function helps() {
  let asked = 0, helped = null;
  const box = () => document.querySelector("#help");
  const close = () => { asked++; box()?.replaceChildren(); helped?.setAttribute("aria-expanded", "false"); helped?.removeAttribute("aria-activedescendant"); };
  const caret = (field) => [...field.value.slice(0, field.selectionStart)].length;
  const options = () => [...(box()?.querySelectorAll(".option") ?? [])];
  const ask = async (field) => {
    const mine = ++asked;
    helped = field;
    const at = caret(field), value = field.value;
    const answer = await fetch(`${field.dataset.help}&rule=${encodeURIComponent(value)}&at=${at}`, { headers: { "HX-Request": "true" } });
    const text = await answer.text();
    if (mine !== asked || !answer.ok || document.activeElement !== field || field.value !== value) return;
    box().outerHTML = text;
    box().dataset.at = at;
    field.setAttribute("aria-expanded", String(options().length > 0));
    place(field);
  };
  // The list stands under the caret, or above it where there is more room, and always inside of the window.
  const place = (field) => {
    const el = box();
    if (!el?.hasChildNodes() || !el.firstElementChild) return;
    const style = getComputedStyle(field), r = field.getBoundingClientRect();
    const probe = document.createElement("span");
    probe.style.cssText = `position:fixed;visibility:hidden;white-space:pre;font:${style.font};letter-spacing:${style.letterSpacing}`;
    const before = field.value.slice(0, field.selectionStart), line = field.matches("textarea") ? before.split("\n") : [before];
    probe.textContent = line.at(-1);
    document.body.append(probe);
    const x = r.left + parseFloat(style.paddingLeft) + Math.min(probe.offsetWidth - field.scrollLeft, r.width - 8);
    const height = field.matches("textarea") ? probe.offsetHeight : r.height;
    probe.remove();
    const top = field.matches("textarea") ? r.top + (line.length - 1) * height - field.scrollTop : r.top;
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
    field.value = before + insert + chars.slice(Number(to)).join("");
    field.focus();
    field.setSelectionRange(at, at);
    close();
    field.dispatchEvent(new Event("input", { bubbles: true }));
  };
  const fits = (field) => helped === field && Number(box().dataset.at) === caret(field) && field.selectionStart === field.selectionEnd;
  document.addEventListener("input", (e) => {
    if (!e.target.matches("[data-help]")) return;
    for (const o of options()) o.remove(); // what is seen belongs to what stood there before
    e.target.value.trim() ? ask(e.target) : close();
  });
  document.addEventListener("focusout", (e) => { if (e.target.matches("[data-help]")) close(); });
  document.addEventListener("selectionchange", () => { if (helped && options().length && document.activeElement === helped && !fits(helped)) close(); });
  addEventListener("resize", close);
  document.addEventListener("htmx:after:swap", () => { if (helped?.isConnected && document.activeElement === helped) place(helped); }); // the field may stand elsewhere now
  document.addEventListener("mousedown", (e) => {
    const option = e.target.closest(".option");
    if (option) { e.preventDefault(); take(option); }
  });
  document.addEventListener("keydown", (e) => {
    if (!e.target.matches?.("[data-help]")) return;
    const field = e.target, all = options(), at = all.findIndex((o) => o.classList.contains("on"));
    if (e.key === "Escape" && box().firstElementChild) { close(); e.preventDefault(); e.stopImmediatePropagation(); return; }
    if (!all.length && e.key === "ArrowDown" && !field.matches("textarea")) { ask(field); e.preventDefault(); return; }
    if (!all.length || !fits(field)) return;
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (step) {
      const next = all[(at + step + all.length + (at < 0 && step < 0 ? 1 : 0)) % all.length];
      all[at]?.classList.remove("on");
      next.classList.add("on");
      next.scrollIntoView({ block: "nearest" });
      field.setAttribute("aria-activedescendant", next.id);
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

// A text with [data-lines] around it has its lines numbered; a fault's link goes to its line, and
// Ctrl+S keeps the text.
function number() {
  for (const box of document.querySelectorAll("[data-lines]")) {
    const [gutter, text] = box.children;
    const lines = text.value.split("\n").length;
    if (Number(gutter.dataset.count) !== lines) gutter.textContent = Array.from({ length: lines }, (_, i) => i + 1).join("\n") + "\n\n";
    gutter.dataset.count = lines;
    gutter.scrollTop = text.scrollTop;
  }
}

function texts() {
  document.addEventListener("input", (e) => { if (e.target.closest("[data-lines]")) number(); });
  document.addEventListener("scroll", (e) => { if (e.target.closest?.("[data-lines]")) number(); }, true);
  document.addEventListener("click", (e) => {
    const link = e.target.closest("[data-goto]");
    const text = link && document.querySelector(link.getAttribute("href"));
    if (!text) return;
    e.preventDefault();
    const lines = text.value.split("\n"), line = Number(link.dataset.goto) - 1;
    const from = lines.slice(0, line).reduce((n, l) => n + l.length + 1, 0);
    text.focus();
    text.setSelectionRange(from, from + (lines[line] ?? "").length);
    text.scrollTop = Math.max(0, (line - 5) * parseFloat(getComputedStyle(text).lineHeight));
  });
  document.addEventListener("keydown", (e) => {
    if (e.key !== "s" || !(e.ctrlKey || e.metaKey) || !document.querySelector("[data-save]")) return;
    e.preventDefault();
    press("[data-save]");
  });
}

// A tree that scrolls by itself keeps its place when it is drawn anew, and shows what is chosen in it.
const scrolled = new Map();
function places() {
  for (const tree of document.querySelectorAll("[data-tree]")) {
    const was = scrolled.get(tree.id);
    if (was?.tree === tree) continue;
    if (was) tree.scrollTop = was.top;
    scrolled.set(tree.id, { tree, top: tree.scrollTop });
    tree.querySelector(".sel")?.scrollIntoView({ block: "nearest" });
  }
}
document.addEventListener("scroll", (e) => { if (e.target.matches?.("[data-tree]") && e.target.isConnected) scrolled.set(e.target.id, { tree: e.target, top: e.target.scrollTop }); }, true);
