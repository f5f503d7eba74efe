// What is wrong in a text is underlined, and tells why when it is pointed at.
import { StateEffect, StateField } from "@codemirror/state";
import { Decoration, EditorView } from "@codemirror/view";

const set = StateEffect.define();

// visible are the marks that cover something of a text of a length: one behind its end stands at its last character.
export const visible = (list, length) => list
  .map(({ from, to, text }) => ({ from: Math.max(0, Math.min(from, length - 1)), to: Math.min(Math.max(to, from + 1), length), text }))
  .filter((m) => m.from < m.to).sort((a, b) => a.from - b.from);

export const marks = StateField.define({
  create: () => Decoration.none,
  update(now, tr) {
    now = now.map(tr.changes);
    for (const e of tr.effects) {
      if (!e.is(set)) continue;
      now = Decoration.set(visible(e.value, tr.newDoc.length).map((m) => Decoration.mark({ class: "cm-wrong", attributes: { title: m.text } }).range(m.from, m.to)));
    }
    return now;
  },
  provide: (field) => EditorView.decorations.from(field),
});

export const mark = (view, list) => view.dispatch({ effects: set.of(list) });
