// A select that has the focus stays itself while the form around it is drawn anew, where both offer the same: letters that are
// typed to choose from it mean one choice together, and a fresh one would take the rest of them for another. It is moved aside
// before and back afterwards, by moves that leave it the focus and its letters.
const aside = { select: null, mark: null };

export function movedAside(select) {
  if (!select?.matches("select") || !document.body.moveBefore) return;
  Object.assign(aside, { select, mark: document.createComment("") });
  select.before(aside.mark);
  document.body.moveBefore(select, null);
}

export function movedBack(action) {
  const { select, mark } = aside;
  aside.select = null;
  if (!select) return false;
  if (mark.isConnected) { mark.parentNode.moveBefore(select, mark); mark.remove(); return true; }
  const drawn = [...document.querySelectorAll(`#${CSS.escape(select.id)}`)].find((el) => el !== select), offers = (el) => [...el.options].map((o) => o.value).join("\n");
  if (!drawn?.matches("select") || drawn.form?.action !== action || offers(drawn) !== offers(select)) {
    select.remove();
    drawn?.focus();
    return false;
  }
  const { value } = select, changed = value !== drawn.value;
  [...drawn.options].forEach((o, i) => { select.options[i].defaultSelected = o.defaultSelected; });
  select.value = value;
  drawn.parentNode.moveBefore(select, drawn);
  drawn.remove();
  for (const name of changed ? ["input", "change"] : []) select.dispatchEvent(new Event(name, { bubbles: true }));
  return true;
}
