import { press } from "./dom.js";

// Esc closes the topmost thing that is open, and nothing else: the keys, what was found, a menu, a panel; then it leaves the
// field. It never leads to another page.
export function closeTopmost() {
  const shown = document.querySelector("#keys"), found = document.querySelector("#found"), problem = document.querySelector("#problem");
  const menu = document.activeElement?.closest("details.menu[open]") ?? [...document.querySelectorAll("details.menu[open]")].pop();
  if (shown && !shown.hidden) return showKeys(false);
  if (found?.firstElementChild) { found.replaceChildren(); document.querySelector("#find").blur(); return; }
  if (problem?.firstElementChild) return problem.replaceChildren();
  if (menu) { menu.open = false; menu.querySelector("summary").focus(); return; }
  if (press("[data-key=close]")) return;
  document.activeElement?.blur();
}

export function showKeys(on) {
  const box = document.querySelector("#keys"), button = document.querySelector("#show-keys");
  if (!box) return;
  box.hidden = !(on ?? box.hidden);
  button?.setAttribute("aria-expanded", String(!box.hidden));
}
