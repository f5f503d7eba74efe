// A form with data-edit is sent a moment after each change, one request at a time. Its answer
// brings the parts of the page that changed; the field under the caret is left alone.
export const unsent = new Set(); // forms with a change that the server has not answered yet

export const posting = new Map(); // requests under way that change something, each with its form

// sent is what every way of a change ends with: nothing waits for this form any more.
export function sent(form) {
  if (unsent.delete(form)) document.dispatchEvent(new CustomEvent("hr-sent"));
}

// unchanging resolves when no request that changes something is under way.
export const unchanging = () => new Promise((go) => {
  const look = () => posting.size ? document.addEventListener("htmx:finally:request", () => setTimeout(look), { once: true }) : go();
  look();
});
