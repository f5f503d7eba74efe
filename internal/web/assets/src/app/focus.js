// A link that has the focus keeps it when the list around it is drawn anew, as it is whenever something changes: a key that
// is pressed right then still means it.
export function focusStays() {
  let link = null;
  document.addEventListener("htmx:before:swap", () => { link = document.activeElement?.matches("a[href]") ? document.activeElement.getAttribute("href") : null; });
  document.addEventListener("htmx:after:swap", () => {
    if (link && document.activeElement === document.body) document.querySelector(`main a[href="${CSS.escape(link)}"]`)?.focus({ preventScroll: true });
  });
}
