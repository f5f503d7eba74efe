// A form with data-edit is sent a moment after each change, one request at a time. Its answer
// brings the parts of the page that changed; the field under the caret is left alone.
export const unsent = seen(new Set()); // forms with a change that the server has not answered yet

export const posting = seen(new Map()); // requests under way that change something, each with its form

// sent is what every way of a change ends with: nothing waits for this form any more.
export function sent(form) {
  if (unsent.delete(form)) document.dispatchEvent(new CustomEvent("hr-sent"));
}

// unchanging resolves when no request that changes something is under way.
export const unchanging = () => new Promise((go) => {
  const look = () => posting.size ? document.addEventListener("htmx:finally:request", () => setTimeout(look), { once: true }) : go();
  look();
});

// seen lets the page say, as data-unsent of its root, that something is not sent yet or under way.
function seen(kept) {
  for (const name of ["add", "set", "delete"]) {
    const real = kept[name]?.bind(kept);
    if (real) kept[name] = (...args) => {
      const result = real(...args);
      document.documentElement?.toggleAttribute("data-unsent", unsent.size > 0 || posting.size > 0);
      return result;
    };
  }
  return kept;
}
