const typing = (el) => el && (el.matches("input, textarea, select") || el.isContentEditable);
const press = (selector) => { const el = document.querySelector(selector); if (el) el.click(); return !!el; };

// alike are the elements that stand in the place of one that was drawn anew: what has its id, or leads where it led, or is the
// only one of its name and value.
function alike(el) {
  if (el.id) return [document.getElementById(el.id)].filter(Boolean);
  const has = (name) => el.hasAttribute(name) ? `[${name}="${CSS.escape(el.getAttribute(name))}"]` : "";
  for (const name of ["hx-get", "href", "data-hot"]) {
    if (has(name)) return [...document.querySelectorAll(el.tagName + has(name))].sort((a, b) => (a.id ? 1 : 0) - (b.id ? 1 : 0)); // another that leads there comes last
  }
  const same = [...document.querySelectorAll(el.tagName + ["name", "value", "form", "hx-post", "data-insert"].map(has).join(""))]
    .filter((other) => other.textContent === el.textContent && other.closest("form")?.action === el.closest("form")?.action);
  return same.length === 1 ? same : [];
}

// standsFor is the first of them, or the element itself while it is there.
const standsFor = (el) => !el || el.isConnected ? el : alike(el)[0] ?? null;

// A click that leads to a request waits until what was typed is kept: else the server would answer it with what was before,
// or refuse the change because of it. It is done then on the element that stands in the place of the one that was clicked.
// So is a press on what is drawn anew before it ends, or on what moved away from under the pointer: a browser takes that for
// no click at all.
function clicksWait() {
  const leads = "a[href]:not([href^='#']), button:not([type=button]), [hx-get], [hx-post]";
  let held = null, down = null, at = null;
  document.addEventListener("htmx:finally:request", () => setTimeout(release));
  const again = (el) => {
    const now = standsFor(el);
    if (now) meant(now); else giveUp();
    now?.dispatchEvent(new MouseEvent("click", { bubbles: true, cancelable: true }));
  };
  const hold = (el) => { held = el; meant(el); };
  document.addEventListener("pointerdown", (e) => { at = [e.clientX, e.clientY]; down = e.isTrusted && e.button === 0 ? e.target.closest?.(`${leads}, button, summary, label`) : null; }, true);
  document.addEventListener("pointerup", (e) => {
    const el = down;
    down = null;
    if (!el || el.contains(e.target)) return;
    const still = Math.hypot(e.clientX - at[0], e.clientY - at[1]) < 4;
    const there = el.isConnected ? [el] : alike(el);
    const now = there.find((other) => other.contains(e.target)) ?? (still ? there[0] : null);
    if (!now) return;
    if (unsent.size && now.matches(leads)) hold(now);
    else setTimeout(() => again(now)); // behind what the browser makes of it
  }, true);
  document.addEventListener("click", async (e) => {
    const leading = e.target.closest?.(leads);
    const own = leading?.matches("button") ? leading.form : null;
    if (own && e.isTrusted && [...posting.values()].includes(own)) { // its form is on its way, with a revision that is no longer the last one then
      e.preventDefault();
      e.stopImmediatePropagation();
      if (e.detail < 2) hold(leading); // who presses twice in one go means it once
      return;
    }
    if (leading && !e.ctrlKey && !e.metaKey && unsaved(own).length) {
      e.preventDefault();
      e.stopImmediatePropagation();
      if (await saveOthers(own)) again(leading);
      return;
    }
    const el = e.isTrusted && unsent.size && leading;
    if (!el || e.target.closest("[data-insert], [data-fold], [data-twist]") || e.ctrlKey || e.metaKey || e.button) return;
    e.preventDefault();
    e.stopImmediatePropagation();
    hold(el);
  }, true);
  const release = () => {
    if (!held || unsent.size || posting.size) return;
    const el = held;
    held = null;
    again(el);
  };
  document.addEventListener("hr-sent", release);
}

// An answer for a part of the page that was drawn anew meanwhile goes into the part that stands there now, unless what was
// drawn was asked for later than the answer.
function answersFind() {
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
