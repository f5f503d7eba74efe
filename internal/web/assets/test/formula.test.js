import assert from "node:assert/strict";
import test from "node:test";
import { wrongIn } from "../src/app/helps.js";

test("what is wrong is counted in characters by the server and in units of UTF-16 by the page", () => {
  assert.deepEqual(wrongIn("🙂 + nope", [{ from: 4, to: 8, text: "there is none" }]), [{ from: 5, to: 9, text: "there is none" }]);
  assert.deepEqual(wrongIn("", []), []);
});
