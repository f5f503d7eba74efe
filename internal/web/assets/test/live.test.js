import assert from "node:assert/strict";
import test from "node:test";

import { concerns } from "../src/app/live.js";

test("a change concerns who shows that very thing, or all of its kind", () => {
  for (const [changed, shown, want] of [
    ["*", "runs", true], ["runs", "runs", true], ["runs:vehicle", "runs", true], ["runs", "runs:vehicle", true],
    ["runs:vehicle", "runs:vehicle", true], ["runs:vehicle", "runs:boarding", false], ["run:1", "run:2", false], ["run:1", "runs", false],
    ["part:flows%2Fa.yaml", "part", true], ["health:desk", "setting", false],
  ]) assert.equal(concerns(changed, shown), want, `${changed} of ${shown}`);
});
