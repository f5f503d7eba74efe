export const typing = (el) => el && (el.matches("input, textarea, select") || el.isContentEditable);

export const press = (selector) => { const el = document.querySelector(selector); if (el) el.click(); return !!el; };

// alike are the elements that stand in the place of one that was drawn anew: what has its id, or leads where it led, or is the
// only one of its name and value.
export function alike(el) {
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
export const standsFor = (el) => !el || el.isConnected ? el : alike(el)[0] ?? null;
