// A form with data-guard has a button that saves it. What was typed into it is saved first when somebody presses anything
// else on the page that leads to a request; where that is refused, nothing else is done, and the reason is shown.
const changed = new Set();

export const unsaved = (but) => [...changed].filter((f) => f !== but && f.isConnected);

export async function saveOthers(but) {
  for (const form of unsaved(but)) {
    if (!await saveForm(form)) return false;
    changed.delete(form);
  }
  return true;
}

// saveForm sends a form aside from the page, which has the new revision then. A refusal is shown, and is no. A form that is no
// longer on the page is sent with the page's revision where it names what it changes, not where it means a place in a list.
export async function saveForm(form) {
  const data = new FormData(form), now = document.querySelector("#revision")?.value;
  if (!form.isConnected && now && !("byPlace" in form.dataset)) data.set("revision", now);
  const answer = await fetch(form.action, { method: "POST", body: new URLSearchParams(data) });
  const page = new DOMParser().parseFromString(await answer.text(), "text/html");
  if (!answer.ok) {
    const told = document.createElement("div");
    told.className = "fault mx-4";
    told.textContent = page.querySelector("main p")?.textContent ?? "What was typed could not be saved.";
    document.querySelector("#problem").replaceChildren(told);
    form.querySelector("input:not([type=hidden]), textarea, select")?.focus();
    return false;
  }
  for (const name of ["revision", "version"]) {
    const kept = page.querySelector(`input[name=${name}]`)?.value;
    if (kept) for (const el of document.querySelectorAll(`input[name=${name}]`)) el.value = kept;
  }
  return true;
}

export function guards() {
  document.addEventListener("input", (e) => { const form = e.target.form; if (form?.matches("[data-guard]")) changed.add(form); });
  document.addEventListener("submit", (e) => changed.delete(e.target));
}
