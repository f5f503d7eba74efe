// A button with data-fill puts its text into a field, as if it had been typed.
export function fills() {
  document.addEventListener("click", (e) => {
    const button = e.target.closest?.("[data-fill]");
    const field = button && document.querySelector(button.dataset.fill);
    if (!field) return;
    field.value = button.dataset.text;
    field.dispatchEvent(new Event("input", { bubbles: true }));
  });
}
