// The editor of texts in a language. It is fetched by pages that have such a text, and by no others; make assets bundles it as a
// file of its own.

import { defaultKeymap, history, historyKeymap, insertNewline } from "@codemirror/commands";
import { javascript } from "@codemirror/lang-javascript";
import { json } from "@codemirror/lang-json";
import { sql } from "@codemirror/lang-sql";
import { xml } from "@codemirror/lang-xml";
import { yaml } from "@codemirror/lang-yaml";
import { bracketMatching, HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { highlightSelectionMatches, search, searchKeymap } from "@codemirror/search";
import { EditorState } from "@codemirror/state";
import { drawSelection, EditorView, highlightActiveLine, highlightActiveLineGutter, keymap, lineNumbers, placeholder } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { formula } from "./code/formula.js";
import { mark, marks } from "./code/marks.js";

// languages by the name that a page gives; a text of another is shown without colours.
const languages = { formula, javascript, json, sql, xml, yaml };

// The colours are those of the page: names in ink, what is written out in reed and plum, words of the language in water.
const colours = HighlightStyle.define([
  { tag: [tags.keyword, tags.operatorKeyword, tags.modifier], color: "var(--color-water)", fontWeight: "600" },
  { tag: [tags.string, tags.attributeValue, tags.special(tags.string)], color: "var(--color-reed-deep)" },
  { tag: [tags.number, tags.bool, tags.null, tags.atom], color: "var(--color-plum)" },
  { tag: [tags.propertyName, tags.attributeName, tags.tagName, tags.definition(tags.propertyName)], color: "var(--color-ink)", fontWeight: "600" },
  { tag: tags.function(tags.variableName), color: "var(--color-ink)", fontWeight: "600" },
  { tag: [tags.comment, tags.meta, tags.processingInstruction], color: "var(--color-ink-3)", fontStyle: "italic" },
  { tag: tags.invalid, color: "var(--color-clay)", textDecoration: "underline wavy" },
]);

const theme = EditorView.theme({
  "&": { height: "100%", color: "var(--color-ink)", backgroundColor: "var(--color-sheet)" },
  "&.cm-focused": { outline: "none" }, // its box has one
  ".cm-scroller": { fontFamily: "var(--font-mono)", fontSize: "12.5px", lineHeight: "19px" },
  ".cm-content": { caretColor: "var(--color-ink)" },
  ".cm-gutters": { backgroundColor: "var(--color-light)", color: "var(--color-ink-3)", borderRight: "1px solid var(--color-rule)" },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "transparent" },
  "&.cm-focused .cm-activeLine, &.cm-focused .cm-activeLineGutter": { backgroundColor: "var(--color-reed-lane)" },
  "&.cm-focused > .cm-scroller > .cm-selectionLayer .cm-selectionBackground, .cm-selectionBackground": { backgroundColor: "var(--color-water-pale)" },
  ".cm-selectionMatch": { backgroundColor: "var(--color-pollen-pale)" },
  ".cm-matchingBracket, &.cm-focused .cm-matchingBracket": { backgroundColor: "var(--color-reed-pale)", outline: "1px solid var(--color-reed-soft)" },
  ".cm-wrong": { textDecoration: "underline wavy var(--color-clay)", textDecorationSkipInk: "none", textUnderlineOffset: "3px" },
  ".cm-placeholder": { color: "var(--color-ink-3)" },
  ".cm-panels": { backgroundColor: "var(--color-sand)", color: "var(--color-ink)" },
});

// Keys that mean something else on every page: they are left to it.
const left = new Set(["Mod-Enter", "Escape", "Mod-s"]);

// replaceTyped puts what is typed in the place of what is selected. A browser would keep the style of that, as a style attribute,
// which the page does not allow.
function replaceTyped(e, view) {
  if (e.inputType !== "insertText" || !e.data || e.isComposing || view.state.readOnly || view.state.selection.main.empty) return false;
  view.dispatch(view.state.replaceSelection(e.data), { userEvent: "input.type", scrollIntoView: true });
  e.preventDefault();
  return true;
}

// selectionStays puts the browser's selection back to where the editor has it. Text that is drawn anew, because it is underlined,
// takes the caret to the start; right after the editor was entered it would be left there, and the next key would fall before
// the last.
const selectionStays = EditorView.updateListener.of(({ view }) => {
  if (!view.hasFocus || view.composing) return;
  const { anchor, head } = view.state.selection.main, seen = getSelection();
  const at = (node, offset) => view.contentDOM.contains(node) ? view.posAtDOM(node, offset) : -1;
  if (at(seen.anchorNode, seen.anchorOffset) === anchor && at(seen.focusNode, seen.focusOffset) === head) return;
  const from = view.domAtPos(anchor), to = view.domAtPos(head);
  seen.setBaseAndExtent(from.node, from.offset, to.node, to.offset);
});

// A formula is one line that wraps, as a field is: Enter leaves it to the page, with Shift it begins another line.
const oneLine = [EditorView.lineWrapping, keymap.of([{ key: "Enter", run: () => true, shift: insertNewline }])];
const manyLines = [lineNumbers(), highlightActiveLine(), highlightActiveLineGutter(), highlightSelectionMatches(), search({ top: true })];

// mount shows a text in an editor inside of a box. changed is called with the whole text and what is selected whenever somebody has changed it, and
// selected with what is selected, from one character to another. attributes are those of the element that is typed into.
export function mount(box, { text, language, hint, readOnly, nonce, attributes, changed, selected }) {
  const make = languages[language];
  const view = new EditorView({
    parent: box,
    state: EditorState.create({
      doc: text,
      extensions: [
        EditorView.cspNonce.of(nonce), theme, syntaxHighlighting(colours), make ? make() : [],
        language === "formula" ? oneLine : manyLines, history(), drawSelection(), selectionStays, bracketMatching(), marks, hint ? placeholder(hint) : [],
        keymap.of([...defaultKeymap, ...historyKeymap, ...searchKeymap].filter((k) => !left.has(k.key))),
        EditorView.contentAttributes.of({ ...attributes, spellcheck: "false" }),
        EditorView.domEventHandlers({ beforeinput: replaceTyped }),
        EditorState.readOnly.of(readOnly),
        EditorView.updateListener.of((u) => {
          const { from, to } = u.state.selection.main;
          if (u.docChanged && !u.transactions.some((t) => t.isUserEvent("outside"))) changed(u.state.doc.toString(), from, to);
          else if (u.docChanged || u.selectionSet) selected(from, to);
        }),
      ],
    }),
  });
  if (attributes.role === "combobox") for (const name of ["aria-multiline", "aria-placeholder"]) view.contentDOM.removeAttribute(name); // it has none (WAI-ARIA 1.2)
  return {
    focus: () => view.focus(),
    select: (from, to) => view.dispatch({ selection: { anchor: Math.min(from, view.state.doc.length), head: Math.min(to, view.state.doc.length) } }),
    selectAll: () => view.dispatch({ selection: { anchor: 0, head: view.state.doc.length } }),
    mark: (list) => mark(view, list),
    // caret is where the caret stands in the window.
    caret: () => view.coordsAtPos(view.state.selection.main.head),
    // tell sets an attribute of what is typed into; null takes it away.
    tell: (name, value) => value === null ? view.contentDOM.removeAttribute(name) : view.contentDOM.setAttribute(name, value),
    // put writes a text in place of another, as if it had been typed, and sets the caret.
    put: (from, to, insert, caret) => view.dispatch({ changes: { from, to, insert }, selection: { anchor: caret }, userEvent: "input.complete" }),
    // show takes a text over that was changed elsewhere; what is the same stays, with the caret in it.
    show(now) {
      const was = view.state.doc.toString();
      if (was === now) return;
      let from = 0, to = 0;
      while (from < Math.min(was.length, now.length) && was[from] === now[from]) from++;
      while (to < Math.min(was.length, now.length) - from && was[was.length - 1 - to] === now[now.length - 1 - to]) to++;
      view.dispatch({ changes: { from, to: was.length - to, insert: now.slice(from, now.length - to) }, userEvent: "outside" });
    },
    // goTo selects a line, counted from 1, and shows it.
    goTo(number) {
      const line = view.state.doc.line(Math.max(1, Math.min(number, view.state.doc.lines)));
      view.focus();
      view.dispatch({ selection: { anchor: line.from, head: line.to }, effects: EditorView.scrollIntoView(line.from, { y: "center" }) });
    },
  };
}
