// measures gives elements the places and sizes that come with their data, as data-left="120px": the content security policy
// allows no style attributes.
export function measures() {
  for (const name of ["left", "width", "maxWidth"]) {
    const attribute = "data-" + name.replace(/[A-Z]/, (c) => "-" + c.toLowerCase());
    for (const e of document.querySelectorAll(`[${attribute}]`)) e.style[name] = e.dataset[name];
  }
}
