import { standsFor } from "./dom.js";

// An answer for a part of the page that was drawn anew meanwhile goes into the part that stands there now, unless what was
// drawn was asked for later than the answer.
export function answersFind() {
  const asked = new WeakMap(), goneBy = new WeakMap();
  let asks = 0;
  document.addEventListener("htmx:before:request", ({ detail: { ctx } }) => asked.set(ctx, ++asks));
  document.addEventListener("htmx:before:swap", ({ detail: { ctx } }) => {
    if (ctx.target?.isConnected) for (const el of [ctx.target, ...ctx.target.children]) goneBy.set(el, asked.get(ctx) ?? 0);
  });
  document.addEventListener("htmx:after:request", ({ detail: { ctx } }) => {
    if (ctx.target?.isConnected !== false) return;
    let top = ctx.target;
    while (top.parentNode) top = top.parentNode;
    if (asked.get(ctx) > (goneBy.get(top) ?? 0)) ctx.target = standsFor(ctx.target) ?? ctx.target;
  });
}
