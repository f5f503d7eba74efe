import assert from "node:assert/strict";
import test from "node:test";

import { rank } from "../src/app/offers.js";

test("a name goes before what is in it, and that before what is said of it", () => {
  const list = [
    ["Send a message", "to another run"], ["For each", "entry of a list"], ["each", ""], ["Each entry", ""], ["Reach", ""], ["Map", "each field of a record"], ["Wait", ""],
  ];
  const found = list.map(([name, about]) => [name, rank("each", name, about)]).filter(([, at]) => at >= 0).sort((a, b) => a[1] - b[1]);
  assert.deepEqual(found.map(([name]) => name), ["each", "Each entry", "For each", "Reach", "Map"]);
});

test("all words must be found, in any order", () => {
  assert.equal(rank("row up", "Look up row", ""), 2);
  assert.equal(rank("row table", "Look up row", "of a table"), 4);
  assert.equal(rank("row queue", "Look up row", "of a table"), -1);
});

test("words begin behind any sign, and letters of other scripts are letters", () => {
  assert.equal(rank("öre", "Kronor (öre)", ""), 2);
  assert.equal(rank("sftp", "Write a file", "over SFTP/SSH"), 4);
});
