// The language of formulas, as far as its colours need it: texts, numbers, words of the language, and names that are called.
import { StreamLanguage } from "@codemirror/language";

const words = new Set(["and", "or", "not", "in", "let", "if", "else", "contains", "startsWith", "endsWith", "matches"]);
const atoms = new Set(["true", "false", "nil", "null"]);

// token takes the next piece of a line, and says what it is; nothing where it has no colour of its own.
export function token(stream) {
  if (stream.eatSpace()) return null;
  if (stream.match(/^"(?:[^"\\]|\\.)*"?/) || stream.match(/^'(?:[^'\\]|\\.)*'?/) || stream.match(/^`[^`]*`?/)) return "string";
  if (stream.match(/^\d[\d_]*(\.\d+)?/)) return "number";
  const name = stream.match(/^[\p{L}_$#][\p{L}\p{N}_$]*/u);
  if (name) {
    if (words.has(name[0])) return "keyword";
    if (atoms.has(name[0])) return "atom";
    return stream.match(/^\s*\(/, false) ? "variableName.function" : "variableName";
  }
  stream.next();
  return null;
}

export const formula = () => StreamLanguage.define({ name: "formula", token });
