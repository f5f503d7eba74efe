import assert from "node:assert/strict";
import test from "node:test";

import { shown } from "../src/app/ribbons.js";

// tree is a list of rows, one below the other, each with its depth and whether it is folded away.
const tree = (...list) => {
  const made = [];
  list.forEach(([depth, hidden], i) => made.push({ dataset: { depth: String(depth) }, hidden, get previousElementSibling() { return made[i - 1] ?? null; } }));
  return made;
};

test("a row that is folded away is shown by the nearest one around it that is not", () => {
  const t = tree([0, false], [1, false], [2, true], [3, true], [1, false], [2, true]);
  assert.equal(shown(t[0]), t[0]);
  assert.equal(shown(t[2]), t[1]);
  assert.equal(shown(t[3]), t[1]);
  assert.equal(shown(t[5]), t[4]);
});

test("a row that nothing shown is around has none", () => {
  assert.equal(shown(tree([1, true], [2, true])[1]), null);
  assert.equal(shown(null), null);
});
