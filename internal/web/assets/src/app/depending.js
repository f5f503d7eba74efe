// Settings that depend on another one (data-when="name=value|value") show only where it has such a value.
export function depending() {
  const settle = () => {
    for (const el of document.querySelectorAll("[data-when]")) {
      const [name, values] = el.dataset.when.split("=");
      const other = el.closest("form")?.elements[name];
      const off = !other || other.closest("[data-when]")?.hidden === true || !values.split("|").includes(other.value);
      el.hidden = off;
    }
  };
  document.addEventListener("change", settle);
  settle();
}
