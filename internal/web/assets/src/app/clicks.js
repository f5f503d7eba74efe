import { giveUp, meant } from "./ahead.js";
import { alike, standsFor } from "./dom.js";
import { saveOthers, unsaved } from "./guards.js";
import { posting, unsent } from "./pending.js";

// A click that leads to a request waits until what was typed is kept: else the server would answer it with what was before,
// or refuse the change because of it. It is done then on the element that stands in the place of the one that was clicked.
// So is a press on what is drawn anew before it ends, or on what moved away from under the pointer: a browser takes that for
// no click at all.
export function clicksWait() {
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
