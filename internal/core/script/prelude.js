// What a script finds: the language without what could take memory or time in one step, frozen so that
// no call leaves anything behind for the next.
(function (global) {
  const most = 16 * 1024 * 1024;
  const limited = (proto, name, size) => {
    const old = proto[name];
    Object.defineProperty(proto, name, {
      value: function (...args) {
        if (size(this, args) > most) throw new RangeError(name + " would make more than 16 MiB");
        return old.apply(this, args);
      },
    });
  };
  limited(String.prototype, "repeat", (s, [n]) => String(s).length * n);
  limited(String.prototype, "padStart", (s, [n]) => n);
  limited(String.prototype, "padEnd", (s, [n]) => n);
  const long = (a) => a.length * 16;
  for (const name of ["join", "fill", "reverse", "sort", "indexOf", "lastIndexOf", "includes", "concat", "slice", "splice", "toString", "flat"]) {
    limited(Array.prototype, name, long);
  }
  limited(Array, "from", (_, [from]) => (from && from.length > 0 ? from.length * 16 : 0));
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
