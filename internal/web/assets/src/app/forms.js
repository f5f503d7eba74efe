// A form with data-guard has a button that saves it. What was typed into it is saved first when somebody presses anything
// else on the page that leads to a request; where that is refused, nothing else is done, and the reason is shown.
const changed = new Set();
const unsaved = (but) => [...changed].filter((f) => f !== but && f.isConnected);
async function saveOthers(but) {
  for (const form of unsaved(but)) {
    if (!await saveForm(form)) return false;
    changed.delete(form);
  }
  return true;
}

// saveForm sends a form aside from the page, which has the new revision then. A refusal is shown, and is no. A form that is no
// longer on the page is sent with the page's revision where it names what it changes, not where it means a place in a list.
async function saveForm(form) {
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
function guards() {
  document.addEventListener("input", (e) => { const form = e.target.form; if (form?.matches("[data-guard]")) changed.add(form); });
  document.addEventListener("submit", (e) => changed.delete(e.target));
}

// A form is sent by the page itself, so that it stays with all that was typed where it is refused: the reason stands at the
// field that it is about, or above, and the focus goes there.
function refusals() {
  const fieldOf = (form, name) => {
    const wanted = name.toLowerCase(), seen = [...form.elements].filter((el) => el.checkVisibility?.() && el.matches("input:not([type=hidden]), select, textarea"));
    return name ? (seen.find((el) => el.name.toLowerCase() === wanted) ?? seen.find((el) => [...el.labels ?? []].some((l) => l.textContent.trim().toLowerCase().startsWith(wanted)))) : null;
  };
  const refuse = (form, { what, field: name, id }) => {
    const told = document.createElement("div"), field = fieldOf(form, name ?? "");
    told.className = field ? "fault refusal" : "fault refusal mx-4";
    told.setAttribute("role", "alert");
    told.append(what, " ");
    told.append(Object.assign(document.createElement("span"), { className: "dim m", textContent: id ?? "" }));
    if (field?.closest(".field")) field.closest(".field").append(told);
    else if (field) field.after(told);
    else document.querySelector("#problem").replaceChildren(told);
    if (!field) scrollTo({ top: 0 });
    (field || [...form.elements].find((el) => el.matches("input:not([type=hidden]), select, textarea") && el.checkVisibility()))?.focus();
  };
  const go = (to) => {
    const url = new URL(to, location.href);
    if (url.hash && url.pathname + url.search === location.pathname + location.search) { history.replaceState(null, "", url); location.reload(); }
    else location.assign(url);
  };
  addEventListener("pageshow", () => { // a page that somebody comes back to sends its forms again
    for (const form of document.querySelectorAll("form[data-sending]")) { delete form.dataset.sending; form.classList.remove("htmx-request"); }
  });
  // A page that the form itself was answered with takes the place of this one.
  const show = (page, at) => {
    const main = document.importNode(page.querySelector("#main"), true);
    history.pushState(null, "", at);
    document.title = page.title;
    document.querySelector("#main").replaceWith(main);
    htmx.process(main);
    main.dispatchEvent(new Event("change", { bubbles: true })); // settings that depend on others
    document.dispatchEvent(new CustomEvent("htmx:after:swap"));
    (main.querySelector("[autofocus]") ?? main.querySelector(".field:has(.fault) .in"))?.focus();
    scrollTo({ top: 0 });
  };
  document.addEventListener("submit", async (e) => {
    const form = e.target, button = e.submitter;
    if (e.defaultPrevented || form.method !== "post" || form.matches("[hx-post], [data-edit], [target]") || button?.hasAttribute("hx-post")) return;
    e.preventDefault();
    if ("sending" in form.dataset) return; // it is on its way
    for (const old of document.querySelectorAll(".refusal")) old.remove();
    const data = new FormData(form, button), action = button?.hasAttribute("formaction") ? button.formAction : form.action;
    form.dataset.sending = "";
    form.classList.add("htmx-request");
    let leaves = false;
    try {
      const answer = await fetch(action, { method: "POST", headers: { "HR-Form": "yes" }, body: form.enctype === "multipart/form-data" ? data : new URLSearchParams(data) });
      const to = answer.headers.get("HR-Location");
      leaves = true;
      if (to) return go(to);
      if (answer.headers.get("Content-Type")?.startsWith("application/json")) { leaves = false; return refuse(form, await answer.json()); }
      leaves = false;
      show(new DOMParser().parseFromString(await answer.text(), "text/html"), action);
    } catch {
      leaves = false;
      refuse(form, { what: "The server does not answer. Nothing of what you typed is lost: send it again." });
    } finally {
      if (!leaves) {
        form.classList.remove("htmx-request");
        delete form.dataset.sending;
      }
    }
  });
}
