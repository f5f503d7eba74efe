import { firstOffer } from "./offers.js";

// outline goes on to the next name at Enter. What is typed before that is drawn is kept and put into it.
export const ahead = { field: "", typed: "", once: false };

// expect keeps what is typed until a field is there that was asked for; where it does not come, the keys are their own again.
export function expect(button) {
  const field = button?.dataset.then;
  if (!field || ahead.field) return;
  Object.assign(ahead, { field, old: document.querySelector(field), typed: "", once: true });
}

// A click sets the focus where one types next, too: in the field that a button brings, or that of the row that was clicked.
let wanted = "";

export function meant(el) {
  expect(el.closest?.("[data-then]"));
  wanted = el.closest?.("[data-pick=row][hx-get]") ? "#formula, #f-name" : "";
}

export function focusMeant() {
  document.addEventListener("click", (e) => { if (e.isTrusted) meant(e.target); });
  document.addEventListener("htmx:after:swap", () => {
    const field = wanted && document.querySelector(wanted);
    if (!field || ahead.field) return;
    wanted = "";
    field.focus();
    field.select?.();
  });
}

export const giveUp = () => { if (ahead.once) Object.assign(ahead, { field: "", typed: "", once: false }); };

export function outline() {
  let taken = false; // the key that is down was kept, and its character must not come into the next field
  document.addEventListener("keypress", (e) => { if (taken) e.preventDefault(); taken = false; }, true);
  document.addEventListener("keydown", (e) => {
    taken = false;
    if (!ahead.field || e.ctrlKey || e.metaKey || e.altKey) return;
    if (e.key === "Escape") giveUp();
    if (e.key === "Enter") ahead.typed += "\n";
    else if (e.key === "Backspace") ahead.typed = ahead.typed.slice(0, -1);
    else if (e.key.length === 1) ahead.typed += e.key;
    else return;
    taken = true;
    e.preventDefault();
    e.stopImmediatePropagation();
  }, true);
  document.addEventListener("htmx:after:swap", () => {
    const field = ahead.field && document.querySelector(ahead.field);
    if (!field || field === ahead.old) return;
    const [now, ...rest] = ahead.typed.split("\n");
    const { once } = ahead;
    Object.assign(ahead, { field: "", typed: "", once: false });
    field.focus();
    field.select();
    if (now) {
      field.setRangeText(now, 0, field.value.length, "end");
      field.dispatchEvent(new Event("input", { bubbles: true }));
    }
    if (!rest.length) return;
    if (once && field.dataset.narrow) {
      const offer = firstOffer(document.querySelector(field.dataset.narrow));
      if (offer) field.form.requestSubmit(offer);
      return;
    }
    field.dispatchEvent(new KeyboardEvent("keydown", { key: "Enter", bubbles: true, cancelable: true }));
    ahead.typed = rest.join("\n");
  });
}
