// A text field with [data-code] is shown in an editor of its language. The field stays in the page, behind it: it holds what is
// sent and where the caret is, tells of what is typed, and takes over what others write into it. Where the editor does not come,
// the field is shown.

const begun = new WeakSet();
let mount = null, coming = null, held = null;

// wordsOf is what a label says, without what stands in the field inside of it.
function wordsOf(label) {
  const copy = label.cloneNode(true);
  for (const inner of copy.querySelectorAll("textarea, select, .code")) inner.remove();
  return copy.textContent;
}

// labelOf is what a field is called.
const labelOf = (field) => field.getAttribute("aria-label") || [...field.labels].map((l) => wordsOf(l).trim().replace(/\s+/g, " ")).join(", ");

// fieldOf is the field of an element that is typed into: of an editor the one behind it.
export const fieldOf = (el) => el?.closest?.(".code")?.previousElementSibling ?? el;

// entered is the element that is typed into: of an editor the field behind it.
export const entered = () => fieldOf(document.activeElement);

// attributesOf are those that what is typed into takes over from its field.
function attributesOf(field) {
  const named = ["role", "aria-expanded", "aria-controls", "aria-autocomplete", "aria-describedby"].filter((name) => field.hasAttribute(name));
  return { "aria-label": labelOf(field), ...Object.fromEntries(named.map((name) => [name, field.getAttribute(name)])) };
}

function edit(field) {
  begun.add(field);
  const box = Object.assign(document.createElement("div"), { className: field.dataset.code === "formula" ? "code line" : "code" }), had = document.activeElement === field, caret = [field.selectionStart, field.selectionEnd];
  const own = { is: false, typed: false }; // whether a change comes from the editor, and whether one has since it was entered
  const select = HTMLTextAreaElement.prototype.setSelectionRange.bind(field);
  field.after(box);
  const editor = mount(box, {
    text: field.value, language: field.dataset.code, hint: field.placeholder, readOnly: field.readOnly, nonce: document.body.dataset.nonce, attributes: attributesOf(field),
    selected: select,
    changed(text, from, to) {
      own.is = own.typed = true;
      field.value = text;
      select(from, to); // who hears of the change asks where the caret is
      field.dispatchEvent(new Event("input", { bubbles: true }));
      own.is = false;
    },
  });
  field.dataset.shown = "";
  field.tabIndex = -1;
  field.setAttribute("aria-hidden", "true");
  Object.assign(field, { editor, focus: editor.focus, select() { editor.focus(); editor.selectAll(); }, goTo: editor.goTo, setSelectionRange(from, to) { select(from, to); editor.select(from, to); } });
  field.addEventListener("input", () => {
    if (own.is) return;
    const [from, to] = [field.selectionStart, field.selectionEnd];
    editor.show(field.value);
    editor.select(from, to);
  });
  field.addEventListener("focus", editor.focus);
  box.addEventListener("focusout", () => {
    if (own.typed) field.dispatchEvent(new Event("change", { bubbles: true }));
    own.typed = false;
  });
  field.dispatchEvent(new Event("hr-editor", { bubbles: true }));
  if (!had) return;
  editor.focus(); // somebody has begun to type before the editor came
  field.setSelectionRange(...caret);
}

// codes shows the editors of the page. The first ones wait until the editor has come; later ones are there at once, and the one
// that was drawn anew keeps focus and caret, so that no key falls between.
export function codes() {
  const fields = [...document.querySelectorAll("textarea[data-code]")].filter((field) => !begun.has(field));
  if (!fields.length || !document.body.dataset.editor) return;
  if (!mount) {
    coming ??= import(document.body.dataset.editor).then((editor) => { mount = editor.mount; codes(); }, () => { coming = null; });
    return;
  }
  fields.forEach(edit);
  const again = held && !held.isConnected && fields.find((field) => field.id === held.id);
  if (!again) return;
  again.focus();
  again.setSelectionRange(held.selectionStart, held.selectionEnd);
}

// codesStay remembers which editor is typed into when it is drawn anew.
export function codesStay() {
  document.addEventListener("htmx:before:swap", () => { held = document.activeElement?.closest(".code") ? entered() : null; });
}
