// What a script finds: the language without what would read it anew or wait, frozen so that no call
// leaves anything behind for the next.
(function (global) {
  for (const name of ["ArrayBuffer", "SharedArrayBuffer", "DataView", "Int8Array", "Uint8Array", "Uint8ClampedArray", "Int16Array", "Uint16Array", "Int32Array",
    "Uint32Array", "Float32Array", "Float64Array", "BigInt64Array", "BigUint64Array", "Promise", "WeakMap", "WeakSet", "WeakRef", "Proxy", "Reflect", "eval", "Function"]) {
    delete global[name];
  }
  for (const kind of [function () {}, function* () {}, async function () {}]) {
    Object.defineProperty(Object.getPrototypeOf(kind), "constructor", { value: undefined });
  }
  for (const name of Object.getOwnPropertyNames(global)) {
    const thing = global[name];
    if (thing === global || (typeof thing !== "object" && typeof thing !== "function") || thing === null) continue;
    if (thing.prototype) Object.freeze(thing.prototype);
    Object.freeze(thing);
  }
  Object.freeze(global);
})(globalThis);
