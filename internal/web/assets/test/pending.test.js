import assert from "node:assert/strict";
import test from "node:test";

globalThis.document = new EventTarget();
const { posting, sent, unchanging, unsent } = await import("../src/app/pending.js");

const finish = (request) => {
  posting.delete(request);
  document.dispatchEvent(new Event("htmx:finally:request"));
};

test("what changes something waits until no other request does", async () => {
  await unchanging(); // nothing is under way
  const order = [], first = {}, second = {};
  posting.set(first, null);
  const waits = unchanging().then(() => order.push("third"));
  posting.set(second, null);
  order.push("first");
  finish(first);
  await new Promise((go) => setTimeout(go));
  order.push("second");
  finish(second);
  await waits;
  assert.deepEqual(order, ["first", "second", "third"]);
});

test("a form that is sent is told once", () => {
  let told = 0;
  document.addEventListener("hr-sent", () => told++);
  const form = {};
  unsent.add(form);
  sent(form);
  sent(form);
  assert.equal(told, 1);
  assert.equal(unsent.size, 0);
});
