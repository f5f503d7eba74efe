// A form is sent by the page itself, so that it stays with all that was typed where it is refused: the reason stands at the
// field that it is about, or above, and the focus goes there.
export function refusals() {
  const fieldOf = (form, name) => {
    const wanted = name.toLowerCase(), seen = [...form.elements].filter((el) => el.checkVisibility?.() && el.matches("input:not([type=hidden]), select, textarea"));
    return name ? (seen.find((el) => [wanted, `set ${wanted}`].includes(el.name.toLowerCase())) ?? seen.find((el) => [...el.labels ?? []].some((l) => l.textContent.trim().toLowerCase().startsWith(wanted)))) : null;
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
