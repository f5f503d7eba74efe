(() => {
  // ../internal/web/assets/src/app/dom.js
  var typing = (el) => el && (el.matches("input, textarea, select") || el.isContentEditable);
  var press = (selector) => {
    const el = document.querySelector(selector);
    if (el) el.click();
    return !!el;
  };
  function alike(el) {
    if (el.id) return [document.getElementById(el.id)].filter(Boolean);
    const has = (name) => el.hasAttribute(name) ? `[${name}="${CSS.escape(el.getAttribute(name))}"]` : "";
    for (const name of ["hx-get", "href", "data-hot"]) {
      if (has(name)) return [...document.querySelectorAll(el.tagName + has(name))].sort((a, b) => (a.id ? 1 : 0) - (b.id ? 1 : 0));
    }
    const same = [...document.querySelectorAll(el.tagName + ["name", "value", "form", "hx-post", "data-insert"].map(has).join(""))].filter((other) => other.textContent === el.textContent && other.closest("form")?.action === el.closest("form")?.action);
    return same.length === 1 ? same : [];
  }
  var standsFor = (el) => !el || el.isConnected ? el : alike(el)[0] ?? null;

  // ../internal/web/assets/src/app/close.js
  function closeTopmost() {
    const shown2 = document.querySelector("#keys"), found = document.querySelector("#found"), problem = document.querySelector("#problem");
    const menu = document.activeElement?.closest("details.menu[open]") ?? [...document.querySelectorAll("details.menu[open]")].pop();
    if (shown2 && !shown2.hidden) return showKeys(false);
    if (found?.firstElementChild) {
      found.replaceChildren();
      document.querySelector("#find").blur();
      return;
    }
    if (problem?.firstElementChild) return problem.replaceChildren();
    if (menu) {
      menu.open = false;
      menu.querySelector("summary").focus();
      return;
    }
    if (press("[data-key=close]")) return;
    document.activeElement?.blur();
  }
  function showKeys(on) {
    const box = document.querySelector("#keys"), button = document.querySelector("#show-keys");
    if (!box) return;
    box.hidden = !(on ?? box.hidden);
    button?.setAttribute("aria-expanded", String(!box.hidden));
  }

  // ../internal/web/assets/src/app/offers.js
  function rank(typed, name, about) {
    const words = typed.split(/\s+/).filter(Boolean), lower = name.toLowerCase();
    const begins = (text, word) => text.toLowerCase().split(/[^\p{L}\p{N}]+/u).some((w) => w.startsWith(word));
    if (lower === typed) return 0;
    if (lower.startsWith(typed)) return 1;
    if (words.every((w) => begins(name, w))) return 2;
    if (words.every((w) => lower.includes(w))) return 3;
    return words.every((w) => lower.includes(w) || begins(about, w)) ? 4 : -1;
  }
  var visible = (list) => [...list.querySelectorAll(".offer")].filter((o) => !o.hidden).sort((a, b) => Number(a.style.order) - Number(b.style.order));
  var firstOffer = (list) => visible(list)[0];
  function narrow() {
    document.addEventListener("input", (e) => {
      const list = e.target.dataset?.narrow && document.querySelector(e.target.dataset.narrow);
      if (!list) return;
      const typed = e.target.value.trim().toLowerCase();
      list.classList.toggle("ranked", typed !== "");
      [...list.querySelectorAll(".offer")].forEach((o, i) => {
        const at = typed ? rank(typed, o.dataset.name, o.dataset.text) : 0;
        o.hidden = at < 0;
        o.style.order = ("fits" in o.dataset && at < 3 ? 0 : at + 1) * 1e3 + i;
      });
      for (const g of list.querySelectorAll("[data-group]")) g.hidden = !g.querySelector(".offer:not([hidden])");
    });
    document.addEventListener("keydown", (e) => {
      const field = e.target.closest?.("[data-narrow]"), offer = e.target.closest?.(".offer");
      if (!field && !offer) return;
      const list = field ? document.querySelector(field.dataset.narrow) : offer.closest(".offers");
      const all = visible(list), step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
      if (e.key === "Escape") {
        closeTopmost();
        e.preventDefault();
        e.stopImmediatePropagation();
        return;
      }
      if (!step) return;
      const at = offer ? all.indexOf(offer) + step : 0;
      (all[at] ?? document.querySelector(`[data-narrow="#${list.id}"]`))?.focus();
      e.preventDefault();
      e.stopImmediatePropagation();
    }, true);
    document.addEventListener("submit", (e) => {
      const field = e.target.querySelector?.("[data-narrow]");
      if (!field || document.activeElement !== field) return;
      const first = firstOffer(document.querySelector(field.dataset.narrow));
      if (e.submitter === first) return;
      e.preventDefault();
      e.stopImmediatePropagation();
      if (first) setTimeout(() => e.target.requestSubmit(first));
    }, true);
    document.addEventListener("htmx:after:swap", () => document.querySelector("#panel [data-narrow]")?.focus());
  }

  // ../internal/web/assets/src/app/ahead.js
  var ahead = { field: "", typed: "", once: false };
  function expect(button) {
    const field = button?.dataset.then;
    if (!field || ahead.field) return;
    Object.assign(ahead, { field, old: document.querySelector(field), typed: "", once: true });
  }
  var wanted = "";
  function meant(el) {
    expect(el.closest?.("[data-then]"));
    wanted = el.closest?.("[data-pick=row][hx-get]") ? "#formula, #f-name" : "";
  }
  function focusMeant() {
    document.addEventListener("click", (e) => {
      if (e.isTrusted) meant(e.target);
    });
    document.addEventListener("htmx:after:swap", () => {
      const field = wanted && document.querySelector(wanted);
      if (!field || ahead.field) return;
      wanted = "";
      field.focus();
      field.select?.();
    });
  }
  var giveUp = () => {
    if (ahead.once) Object.assign(ahead, { field: "", typed: "", once: false });
  };
  function outline() {
    let taken = false;
    document.addEventListener("keypress", (e) => {
      if (taken) e.preventDefault();
      taken = false;
    }, true);
    document.addEventListener("keydown", (e) => {
      taken = false;
      if (!ahead.field || e.ctrlKey || e.metaKey || e.altKey) return;
      if (e.key === "Escape") giveUp();
      if (e.key === "Enter") ahead.typed += "\n";
      else if (e.key === "Backspace") ahead.typed = ahead.typed.slice(0, -1);
      else if (e.key.length === 1) ahead.typed += e.key;
      else return;
      taken = true;
      e.preventDefault();
      e.stopImmediatePropagation();
    }, true);
    document.addEventListener("htmx:after:swap", () => {
      const field = ahead.field && document.querySelector(ahead.field);
      if (!field || field === ahead.old) return;
      const [now, ...rest] = ahead.typed.split("\n");
      const { once } = ahead;
      Object.assign(ahead, { field: "", typed: "", once: false });
      field.focus();
      field.select();
      if (now) {
        field.setRangeText(now, 0, field.value.length, "end");
        field.dispatchEvent(new Event("input", { bubbles: true }));
      }
      if (!rest.length) return;
      if (once && field.dataset.narrow) {
        const offer = firstOffer(document.querySelector(field.dataset.narrow));
        if (offer) field.form.requestSubmit(offer);
        return;
      }
      field.dispatchEvent(new KeyboardEvent("keydown", { key: "Enter", bubbles: true, cancelable: true }));
      ahead.typed = rest.join("\n");
    });
  }

  // ../internal/web/assets/src/app/answers.js
  function answersFind() {
    const asked = /* @__PURE__ */ new WeakMap(), goneBy = /* @__PURE__ */ new WeakMap();
    let asks = 0;
    document.addEventListener("htmx:before:request", ({ detail: { ctx } }) => asked.set(ctx, ++asks));
    document.addEventListener("htmx:before:swap", ({ detail: { ctx } }) => {
      if (ctx.target?.isConnected) for (const el of [ctx.target, ...ctx.target.children]) goneBy.set(el, asked.get(ctx) ?? 0);
    });
    document.addEventListener("htmx:after:request", ({ detail: { ctx } }) => {
      if (ctx.target?.isConnected !== false) return;
      let top = ctx.target;
      while (top.parentNode) top = top.parentNode;
      if (asked.get(ctx) > (goneBy.get(top) ?? 0)) ctx.target = standsFor(ctx.target) ?? ctx.target;
    });
  }

  // ../internal/web/assets/src/app/boxes.js
  function boxes() {
    document.addEventListener("change", (e) => {
      const all = e.target.dataset?.all;
      if (all) document.querySelectorAll(all).forEach((box) => {
        box.checked = e.target.checked;
      });
      if (e.target.matches?.("select[data-submit]")) e.target.form.requestSubmit();
    });
  }

  // ../internal/web/assets/src/app/carries.js
  function carries() {
    let from = null, carried = false;
    const gapAt = (x, y) => {
      let best = null, least = 40;
      for (const g of document.querySelectorAll(".gap")) {
        const r = g.getBoundingClientRect(), d = Math.hypot(r.left + r.width / 2 - x, r.top + r.height / 2 - y);
        if (d < least) {
          best = g;
          least = d;
        }
      }
      return best;
    };
    document.addEventListener("pointerdown", (e) => {
      const node = e.button === 0 && e.target.closest?.("[data-drag] [data-step]");
      carried = false;
      from = node && node.dataset.step !== "trigger" ? { step: node.dataset.step, x: e.clientX, y: e.clientY } : null;
    });
    document.addEventListener("pointermove", (e) => {
      if (!from || !carried && Math.hypot(e.clientX - from.x, e.clientY - from.y) < 7) return;
      carried = true;
      document.querySelector("[data-drag]").classList.add("carrying");
      for (const g of document.querySelectorAll(".gap.near")) g.classList.remove("near");
      gapAt(e.clientX, e.clientY)?.classList.add("near");
    });
    document.addEventListener("pointerup", (e) => {
      document.querySelector("[data-drag]")?.classList.remove("carrying");
      const gap = from && carried && gapAt(e.clientX, e.clientY), form = document.querySelector("#doing");
      if (gap && form) {
        const values = Object.fromEntries(["revision", "record", "sample", "fold"].map((name) => [name, form.elements[name].value]));
        htmx.ajax("POST", form.action, { source: form, target: "#work", swap: "outerHTML", values: { ...values, do: "move", step: from.step, count: 1, gap: gap.dataset.gap } });
      }
      from = null;
    });
    document.addEventListener("click", (e) => {
      if (!carried) return;
      carried = false;
      if (e.target.closest?.("[data-drag]")) {
        e.preventDefault();
        e.stopImmediatePropagation();
      }
    }, true);
    document.addEventListener("dragstart", (e) => {
      if (e.target.closest?.("[data-drag]")) e.preventDefault();
    });
  }

  // ../internal/web/assets/src/app/guards.js
  var changed = /* @__PURE__ */ new Set();
  var unsaved = (but) => [...changed].filter((f) => f !== but && f.isConnected);
  async function saveOthers(but) {
    for (const form of unsaved(but)) {
      if (!await saveForm(form)) return false;
      changed.delete(form);
    }
    return true;
  }
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
    document.addEventListener("input", (e) => {
      const form = e.target.form;
      if (form?.matches("[data-guard]")) changed.add(form);
    });
    document.addEventListener("submit", (e) => changed.delete(e.target));
  }

  // ../internal/web/assets/src/app/pending.js
  var unsent = seen(/* @__PURE__ */ new Set());
  var posting = seen(/* @__PURE__ */ new Map());
  function sent(form) {
    if (unsent.delete(form)) document.dispatchEvent(new CustomEvent("hr-sent"));
  }
  var unchanging = () => new Promise((go) => {
    const look = () => posting.size ? document.addEventListener("htmx:finally:request", () => setTimeout(look), { once: true }) : go();
    look();
  });
  function seen(kept) {
    for (const name of ["add", "set", "delete"]) {
      const real = kept[name]?.bind(kept);
      if (real) kept[name] = (...args) => {
        const result = real(...args);
        document.documentElement?.toggleAttribute("data-unsent", unsent.size > 0 || posting.size > 0);
        return result;
      };
    }
    return kept;
  }

  // ../internal/web/assets/src/app/clicks.js
  function clicksWait() {
    const leads = "a[href]:not([href^='#']), button:not([type=button]), [hx-get], [hx-post]";
    let held2 = null, down = null, at = null;
    document.addEventListener("htmx:finally:request", () => setTimeout(release));
    const again = (el) => {
      const now = standsFor(el);
      if (now) meant(now);
      else giveUp();
      now?.dispatchEvent(new MouseEvent("click", { bubbles: true, cancelable: true }));
    };
    const hold = (el) => {
      held2 = el;
      meant(el);
    };
    document.addEventListener("pointerdown", (e) => {
      at = [e.clientX, e.clientY];
      down = e.isTrusted && e.button === 0 ? e.target.closest?.(`${leads}, button, summary, label`) : null;
    }, true);
    document.addEventListener("pointerup", (e) => {
      const el = down;
      down = null;
      if (!el || el.contains(e.target)) return;
      const still = Math.hypot(e.clientX - at[0], e.clientY - at[1]) < 4;
      const there = el.isConnected ? [el] : alike(el);
      const now = there.find((other) => other.contains(e.target)) ?? (still ? there[0] : null);
      if (!now) return;
      if (unsent.size && now.matches(leads)) hold(now);
      else setTimeout(() => again(now));
    }, true);
    document.addEventListener("click", async (e) => {
      const leading = e.target.closest?.(leads);
      const own = leading?.matches("button") ? leading.form : null;
      if (own && e.isTrusted && [...posting.values()].includes(own)) {
        e.preventDefault();
        e.stopImmediatePropagation();
        if (e.detail < 2) hold(leading);
        return;
      }
      if (leading && !e.ctrlKey && !e.metaKey && unsaved(own).length) {
        e.preventDefault();
        e.stopImmediatePropagation();
        if (await saveOthers(own)) again(leading);
        return;
      }
      const el = e.isTrusted && unsent.size && leading;
      if (!el || e.target.closest("[data-insert], [data-fold], [data-twist]") || e.ctrlKey || e.metaKey || e.button) return;
      e.preventDefault();
      e.stopImmediatePropagation();
      hold(el);
    }, true);
    const release = () => {
      if (!held2 || unsent.size || posting.size) return;
      const el = held2;
      held2 = null;
      again(el);
    };
    document.addEventListener("hr-sent", release);
  }

  // ../internal/web/assets/src/app/codes.js
  var begun = /* @__PURE__ */ new WeakSet();
  var mount = null;
  var coming = null;
  var held = null;
  function wordsOf(label) {
    const copy = label.cloneNode(true);
    for (const inner of copy.querySelectorAll("textarea, select, .code")) inner.remove();
    return copy.textContent;
  }
  var labelOf = (field) => field.getAttribute("aria-label") || [...field.labels].map((l) => wordsOf(l).trim().replace(/\s+/g, " ")).join(", ");
  var fieldOf = (el) => el?.closest?.(".code")?.previousElementSibling ?? el;
  var entered = () => fieldOf(document.activeElement);
  function attributesOf(field) {
    const named = ["role", "aria-expanded", "aria-controls", "aria-autocomplete", "aria-describedby"].filter((name) => field.hasAttribute(name));
    return { "aria-label": labelOf(field), ...Object.fromEntries(named.map((name) => [name, field.getAttribute(name)])) };
  }
  function edit(field) {
    begun.add(field);
    const box = Object.assign(document.createElement("div"), { className: field.dataset.code === "formula" ? "code line" : "code" }), had = document.activeElement === field, caret = [field.selectionStart, field.selectionEnd];
    const own = { is: false, typed: false };
    const select = HTMLTextAreaElement.prototype.setSelectionRange.bind(field);
    field.after(box);
    const editor = mount(box, {
      text: field.value,
      language: field.dataset.code,
      hint: field.placeholder,
      readOnly: field.readOnly,
      nonce: document.body.dataset.nonce,
      attributes: attributesOf(field),
      selected: select,
      changed(text, from, to) {
        own.is = own.typed = true;
        field.value = text;
        select(from, to);
        field.dispatchEvent(new Event("input", { bubbles: true }));
        own.is = false;
      }
    });
    field.dataset.shown = "";
    field.tabIndex = -1;
    field.setAttribute("aria-hidden", "true");
    Object.assign(field, { editor, focus: editor.focus, select() {
      editor.focus();
      editor.selectAll();
    }, goTo: editor.goTo, setSelectionRange(from, to) {
      select(from, to);
      editor.select(from, to);
    } });
    field.addEventListener("input", () => {
      if (own.is) return;
      const [from, to] = [field.selectionStart, field.selectionEnd];
      editor.show(field.value);
      editor.select(from, to);
    });
    field.addEventListener("focus", editor.focus);
    box.addEventListener("focusout", () => {
      if (own.typed) field.dispatchEvent(new Event("change", { bubbles: true }));
      own.typed = false;
    });
    field.dispatchEvent(new Event("hr-editor", { bubbles: true }));
    if (!had) return;
    editor.focus();
    field.setSelectionRange(...caret);
  }
  function codes() {
    const fields = [...document.querySelectorAll("textarea[data-code]")].filter((field) => !begun.has(field));
    if (!fields.length || !document.body.dataset.editor) return;
    if (!mount) {
      coming ??= import(document.body.dataset.editor).then((editor) => {
        mount = editor.mount;
        codes();
      }, () => {
        coming = null;
      });
      return;
    }
    fields.forEach(edit);
    const again = held && !held.isConnected && fields.find((field) => field.id === held.id);
    if (!again) return;
    again.focus();
    again.setSelectionRange(held.selectionStart, held.selectionEnd);
  }
  function codesStay() {
    document.addEventListener("htmx:before:swap", () => {
      held = document.activeElement?.closest(".code") ? entered() : null;
    });
  }

  // ../internal/web/assets/src/app/clips.js
  function copySteps() {
    const clip = document.querySelector("[data-clip]")?.dataset.clip;
    if (!clip) return false;
    sessionStorage.setItem("hollowreed-steps", clip);
    navigator.clipboard?.writeText(clip).catch(() => {
    });
    return true;
  }
  var clipped = { c: copySteps, x: () => copySteps() && press("[data-cut-step]"), v: () => press("[data-paste]") };
  var clipKey = (e) => (e.ctrlKey || e.metaKey) && !e.shiftKey && clipped[e.key.toLowerCase()] && document.querySelector("#doing") && !String(getSelection());
  function clips() {
    document.addEventListener("click", (e) => {
      if (e.target.closest("[data-copy]") && copySteps()) e.target.closest("details")?.removeAttribute("open");
      if (!e.target.closest("[data-paste]")) return;
      const items = sessionStorage.getItem("hollowreed-steps");
      if (items) document.querySelector("#doing").elements.items.value = items;
      else e.preventDefault();
    }, true);
  }

  // ../internal/web/assets/src/app/depending.js
  function depending() {
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

  // ../internal/web/assets/src/app/ribbons.js
  var pointed = "";
  function ribbons() {
    const svg = document.querySelector("#ribbons");
    if (!svg) return;
    const box = svg.getBoundingClientRect();
    const lit = /* @__PURE__ */ new Set();
    const paths = [];
    for (const li of document.querySelectorAll("#links li")) {
      const a = shown(document.querySelector(`[data-source="${CSS.escape(li.dataset.from)}"]`));
      const b = shown(document.querySelector(`[data-target="${CSS.escape(li.dataset.to)}"]`));
      if (!a || !b) continue;
      const ar = a.getBoundingClientRect(), br = b.getBoundingClientRect();
      const y1 = ar.top + ar.height / 2 - box.top, y2 = br.top + br.height / 2 - box.top, w = box.width;
      const d = `M0 ${y1}C${w * 0.45} ${y1} ${w * 0.55} ${y2} ${w} ${y2}`;
      const chosen = b.classList.contains("sel") || pointed && (pointed === li.dataset.from || pointed === li.dataset.to);
      if (chosen) {
        lit.add(a);
        lit.add(b);
      }
      paths.push([chosen, chosen ? `<path d="${d}" fill="none" stroke="#5f7a1f" stroke-width="6"/><path d="${d}" fill="none" stroke="#fbfaf3" stroke-width="2.8"/>` : `<path d="${d}" fill="none" stroke="${li.dataset.kind === "formula" ? "#9a80ab" : "#a3b277"}" stroke-width="1.5"/>`]);
    }
    svg.innerHTML = paths.sort((x, y) => x[0] - y[0]).map((p) => p[1]).join("");
    for (const el of document.querySelectorAll("[data-source], [data-target]")) el.classList.toggle("lit", lit.has(el));
  }
  function shown(row) {
    let depth = Number(row?.dataset.depth);
    while (row?.hidden) {
      do
        row = row.previousElementSibling;
      while (row && Number(row.dataset.depth) >= depth);
      depth = Number(row?.dataset.depth);
    }
    return row;
  }
  function pointAt(name) {
    if (name === pointed) return;
    pointed = name;
    ribbons();
  }

  // ../internal/web/assets/src/app/drags.js
  function drags() {
    document.addEventListener("mouseover", (e) => {
      const row = e.target.closest("[data-source], [data-target]");
      pointAt(row ? row.dataset.source ?? row.dataset.target : "");
    });
    let dragged = null;
    document.addEventListener("dragstart", (e) => {
      dragged = e.target.closest?.("[data-source][data-insert]");
      if (dragged) e.dataTransfer.setData("text/plain", dragged.dataset.insert);
    });
    const target = (e) => dragged && e.target.closest?.("[data-target]");
    document.addEventListener("dragover", (e) => {
      if (target(e)) e.preventDefault();
    });
    document.addEventListener("drop", async (e) => {
      const row = target(e), form = document.querySelector("form[data-edit]");
      if (!row || !form) return;
      e.preventDefault();
      const lists = "list" in dragged.dataset && "list" in row.dataset;
      const value = (name) => form.elements[name]?.value ?? "";
      const values = {
        field: row.dataset.target,
        rule: dragged.dataset.insert,
        kind: lists ? "each" : "formula",
        as: lists ? dragged.dataset.list : "",
        revision: value("revision"),
        record: value("record"),
        sample: value("sample"),
        show: value("show")
      };
      dragged = null;
      await htmx.ajax("POST", form.action, { source: "#ribbons", target: "#answers", swap: "innerHTML", values });
      await htmx.ajax("GET", row.getAttribute("href"), { target: "#work", swap: "outerHTML" });
    });
  }

  // ../internal/web/assets/src/app/selects.js
  var aside = { select: null, mark: null };
  function movedAside(select) {
    if (!select?.matches("select") || !document.body.moveBefore) return;
    Object.assign(aside, { select, mark: document.createComment("") });
    select.before(aside.mark);
    document.body.moveBefore(select, null);
  }
  function movedBack(action) {
    const { select, mark } = aside;
    aside.select = null;
    if (!select) return false;
    if (mark.isConnected) {
      mark.parentNode.moveBefore(select, mark);
      mark.remove();
      return true;
    }
    const drawn = [...document.querySelectorAll(`#${CSS.escape(select.id)}`)].find((el) => el !== select), offers = (el) => [...el.options].map((o) => o.value).join("\n");
    if (!drawn?.matches("select") || drawn.form?.action !== action || offers(drawn) !== offers(select)) {
      select.remove();
      drawn?.focus();
      return false;
    }
    const { value } = select, changed2 = value !== drawn.value;
    [...drawn.options].forEach((o, i) => {
      select.options[i].defaultSelected = o.defaultSelected;
    });
    select.value = value;
    drawn.parentNode.moveBefore(select, drawn);
    drawn.remove();
    for (const name of changed2 ? ["input", "change"] : []) select.dispatchEvent(new Event(name, { bubbles: true }));
    return true;
  }

  // ../internal/web/assets/src/app/edits.js
  var identityOf = (form) => {
    const called = form.elements.called, passing = ["revision", "line", "record", "sample", called && "field"];
    return [form.action, ...[...form.elements].filter((el) => el.type === "hidden" && !passing.includes(el.name)).map((el) => `${el.name}=${el.value}`)].join("\n");
  };
  var drawnAs = (el) => el.matches("select") ? [...el.options].find((o) => o.defaultSelected)?.value : el.defaultValue;
  function edits() {
    document.addEventListener("htmx:before:request", ({ detail: { ctx } }) => {
      if (ctx.request.method !== "GET") posting.set(ctx, ctx.request.form);
    });
    document.addEventListener("htmx:finally:request", ({ detail: { ctx } }) => {
      posting.delete(ctx);
    });
    const states = /* @__PURE__ */ new WeakMap();
    let last = Promise.resolve();
    const inTurn = (change) => {
      const alone = () => unchanging().then(change);
      return last = last.then(alone, alone);
    };
    let redrawing = false, kept = null, carries2 = false, focused = null;
    const redraw = async () => {
      const row = document.querySelector("[data-pick].sel");
      if (!row) return;
      redrawing = true;
      try {
        await htmx.ajax("GET", row.getAttribute("hx-get"), { target: "#work", swap: "outerHTML" });
      } finally {
        redrawing = false;
      }
      for (const form of unsent) if (states.get(form)?.held && form.isConnected) {
        states.get(form).held = false;
        send(form);
      }
    };
    const pass = async (form) => {
      if (form.isConnected) return htmx.ajax("POST", form.action, { source: form, target: "#answers", swap: "innerHTML" });
      if (!states.get(form).takenOver && await saveForm(form)) return redraw();
    };
    const send = async (form) => {
      const state = states.get(form);
      if (state.busy) {
        state.again = true;
        return;
      }
      if (redrawing) {
        state.held = true;
        return;
      }
      state.busy = true;
      unsent.add(form);
      try {
        await inTurn(() => pass(form));
      } finally {
        state.busy = false;
      }
      if (state.again) {
        state.again = false;
        return send(form);
      }
      if (state.then) {
        const then = state.then;
        state.then = null;
        await then();
      }
      if (!state.timer) sent(form);
    };
    const stateOf = (form) => {
      if (!states.has(form)) states.set(form, { busy: false, again: false, held: false, takenOver: false, timer: 0, then: null });
      return states.get(form);
    };
    const flush = (form, state) => {
      clearTimeout(state.timer);
      state.timer = 0;
      return send(form);
    };
    const gone = (form) => {
      const state = states.get(form);
      if (!unsent.has(form) || state.busy) return;
      if (!state.takenOver) return flush(form, state);
      clearTimeout(state.timer);
      sent(form);
    };
    document.addEventListener("change", (e) => {
      const form = e.target.closest("form[data-edit]");
      const row = document.querySelector("[data-pick].sel");
      if (!form || !row || !e.target.matches("[data-redraw]")) return;
      const state = stateOf(form);
      state.then = redraw;
      if (!state.timer && !state.busy && e.target.tagName !== "SELECT") {
        state.then();
        state.then = null;
      }
    });
    document.addEventListener("keydown", (e) => {
      const field = fieldOf(e.target), next = field.dataset?.next;
      const form = field.closest?.("form[data-edit]");
      if (e.key !== "Enter" || e.shiftKey || !next || !form) return;
      e.preventDefault();
      const state = stateOf(form);
      ahead.field = "#" + field.id;
      ahead.old = field;
      state.then = () => {
        if (form.querySelector("#verdict .fault") || !press(next)) Object.assign(ahead, { field: "", typed: "", once: false });
      };
      flush(form, state);
    });
    document.addEventListener("input", (e) => {
      const form = e.target.closest("form[data-edit]");
      if (!form || e.target.form !== form) return;
      const state = stateOf(form);
      clearTimeout(state.timer);
      unsent.add(form);
      state.timer = setTimeout(() => flush(form, state), e.target.tagName === "SELECT" ? 0 : 250);
    });
    document.addEventListener("change", (e) => {
      const form = e.target.closest("form[data-edit]"), state = form && states.get(form);
      if (state?.timer && e.target.tagName !== "SELECT") flush(form, state);
    });
    document.addEventListener("submit", (e) => {
      if (e.target.matches("form[data-edit]")) e.preventDefault();
    });
    document.addEventListener("htmx:before:swap", () => {
      const form = document.querySelector("form[data-edit]");
      carries2 = redrawing;
      kept = redrawing || unsent.has(form) ? form : null;
      focused = kept?.contains(entered()) ? entered() : null;
      movedAside(focused);
    });
    document.addEventListener("htmx:after:swap", () => {
      for (const form of unsent) if (!form.isConnected && !states.get(form).busy) setTimeout(() => gone(form));
      if (movedBack(kept?.action)) focused = null;
      if (!kept || kept.isConnected) return;
      const now = [...document.querySelectorAll("form[data-edit]")].find((form) => form.action === kept.action);
      if (!now || !carries2 && identityOf(now) !== identityOf(kept)) return;
      const here = [...kept.elements].filter((old) => old.id && changedHere(old)).map((old) => [old, now.querySelector(`#${CSS.escape(old.id)}`)]);
      if (!carries2 && here.some(([old, field2]) => !field2 || drawnAs(field2) !== drawnAs(old))) return;
      stateOf(kept).takenOver = true;
      for (const [old, field2] of here) {
        if (!field2 || field2.value === old.value) continue;
        const more = typedSince(field2);
        field2.value = old.value + more;
        field2.dispatchEvent(new Event("input", { bubbles: true }));
        if (field2.matches("select[data-redraw]")) field2.dispatchEvent(new Event("change", { bubbles: true }));
        if (more) focused = null;
      }
      const field = focused && document.getElementById(focused.id);
      if (field) {
        field.focus();
        try {
          field.setSelectionRange(focused.selectionStart, focused.selectionEnd);
        } catch {
        }
      }
      kept = focused = null;
    });
  }
  var typedSince = (el) => el.matches("input, textarea") && el.value.startsWith(el.defaultValue) ? el.value.slice(el.defaultValue.length) : "";
  var changedHere = (el) => el.matches("input:not([type=hidden]), textarea") ? el.value !== el.defaultValue : el.matches("select") && !el.selectedOptions[0]?.defaultSelected && [...el.options].some((o) => o.defaultSelected);

  // ../internal/web/assets/src/app/fills.js
  function fills() {
    document.addEventListener("click", (e) => {
      const button = e.target.closest?.("[data-fill]");
      const field = button && document.querySelector(button.dataset.fill);
      if (!field) return;
      field.value = button.dataset.text;
      field.dispatchEvent(new Event("input", { bubbles: true }));
    });
  }

  // ../internal/web/assets/src/app/focus.js
  function focusStays() {
    let link = null;
    document.addEventListener("htmx:before:swap", () => {
      link = document.activeElement?.matches("a[href]") ? document.activeElement.getAttribute("href") : null;
    });
    document.addEventListener("htmx:after:swap", () => {
      if (link && document.activeElement === document.body) document.querySelector(`main a[href="${CSS.escape(link)}"]`)?.focus({ preventScroll: true });
    });
  }

  // ../internal/web/assets/src/app/folds.js
  var folded = /* @__PURE__ */ new Set();
  function fold() {
    for (const row of document.querySelectorAll("tr[data-field]")) {
      const parts = row.dataset.field.split(".");
      row.hidden = parts.some((_, i) => i > 0 && folded.has(parts.slice(0, i).join(".")));
      const button = row.querySelector("[data-fold]");
      if (button && folded.has(row.dataset.field)) button.setAttribute("aria-expanded", "false");
    }
  }
  function folds() {
    document.addEventListener("click", (e) => {
      const button = e.target.closest("[data-fold]");
      if (!button) return;
      const path = button.dataset.fold, closed = button.getAttribute("aria-expanded") === "false";
      if (closed && !folded.has(path)) return;
      e.stopPropagation();
      e.preventDefault();
      if (closed) folded.delete(path);
      else folded.add(path);
      button.setAttribute("aria-expanded", String(closed));
      fold();
    }, true);
    document.addEventListener("keydown", (e) => {
      if (e.key.toLowerCase() !== "f" || e.ctrlKey || e.metaKey || e.altKey || typing(e.target)) return;
      press("tr.sel [data-fold], .maprow.sel [data-twist]");
    });
  }

  // ../internal/web/assets/src/app/helps.js
  var wrongIn = (text, faults) => {
    const chars = [...text], at = (n) => chars.slice(0, n).join("").length;
    return faults.map(({ from, to, text: why }) => ({ from: at(from), to: at(to), text: why }));
  };
  function helps() {
    let asked = 0, helped = null;
    const box = () => document.querySelector("#help");
    const tell = (name, value) => {
      value === null ? helped?.removeAttribute(name) : helped?.setAttribute(name, value);
      helped?.editor?.tell(name, value);
    };
    const close = () => {
      asked++;
      box()?.replaceChildren();
      tell("aria-expanded", "false");
      tell("aria-activedescendant", null);
    };
    const caret = (field) => [...field.value.slice(0, field.selectionStart)].length;
    const options = () => [...box()?.querySelectorAll(".option") ?? []];
    const ask = async (field) => {
      const mine = ++asked;
      helped = field;
      const at = caret(field), value = field.value;
      const answer = await fetch(`${field.dataset.help}&rule=${encodeURIComponent(value)}&at=${at}`, { headers: { "HX-Request": "true" } });
      const text = await answer.text();
      if (mine !== asked || !answer.ok || entered() !== field || field.value !== value) return;
      box().outerHTML = text;
      box().dataset.at = at;
      underline(field, box());
      tell("aria-expanded", String(options().length > 0));
      place(field);
    };
    const underline = (field, answer) => field.editor?.mark(wrongIn(field.value, JSON.parse(answer.dataset.wrong) ?? []));
    document.addEventListener("hr-editor", async ({ target: field }) => {
      if (!field.matches("[data-help]") || !field.value.trim()) return;
      const value = field.value, answer = await fetch(`${field.dataset.help}&rule=${encodeURIComponent(value)}&at=-1`, { headers: { "HX-Request": "true" } });
      if (!answer.ok) return;
      const text = await answer.text();
      if (field.isConnected && field.value === value) underline(field, new DOMParser().parseFromString(text, "text/html").querySelector("#help"));
    });
    const place = (field) => {
      const el = box();
      if (!el?.hasChildNodes() || !el.firstElementChild) return;
      const seen2 = field.editor?.caret();
      if (seen2) return stand(el, seen2.left, seen2.top, seen2.bottom - seen2.top);
      const style = getComputedStyle(field), r = field.getBoundingClientRect();
      const probe = document.createElement("span");
      probe.style.cssText = `position:fixed;visibility:hidden;white-space:pre;font:${style.font};letter-spacing:${style.letterSpacing}`;
      const before = field.value.slice(0, field.selectionStart), line = field.matches("textarea") ? before.split("\n") : [before];
      probe.textContent = line.at(-1);
      document.body.append(probe);
      const x = r.left + parseFloat(style.paddingLeft) + Math.min(probe.offsetWidth - field.scrollLeft, r.width - 8);
      const height = field.matches("textarea") ? probe.offsetHeight : r.height;
      probe.remove();
      stand(el, x, field.matches("textarea") ? r.top + (line.length - 1) * height - field.scrollTop : r.top, height);
    };
    const stand = (el, x, top, height) => {
      const below = innerHeight - (top + height) - 8, above = top - 8, room = Math.max(120, Math.min(320, Math.max(below, above)));
      el.style.maxHeight = `${room}px`;
      el.style.left = `${Math.max(8, Math.min(x, innerWidth - el.offsetWidth - 8))}px`;
      const under = below >= Math.min(el.offsetHeight, 320) || below >= above;
      el.style.top = `${under ? top + height + 4 : Math.max(8, top - 4 - el.offsetHeight)}px`;
    };
    const take = (option) => {
      const field = helped, { from, to } = box().dataset, insert = option.dataset.text;
      const chars = [...field.value], before = chars.slice(0, Number(from)).join("");
      const at = before.length + insert.length - (insert.endsWith(")") ? 1 : 0);
      close();
      if (field.editor) return field.editor.put(before.length, chars.slice(0, Number(to)).join("").length, insert, at);
      field.value = before + insert + chars.slice(Number(to)).join("");
      field.focus();
      field.setSelectionRange(at, at);
      field.dispatchEvent(new Event("input", { bubbles: true }));
    };
    const fits = (field) => helped === field && Number(box().dataset.at) === caret(field) && field.selectionStart === field.selectionEnd;
    document.addEventListener("input", (e) => {
      if (!e.target.matches("[data-help]")) return;
      for (const o of options()) o.remove();
      e.target.value.trim() ? ask(e.target) : close();
    });
    document.addEventListener("focusout", ({ target, relatedTarget }) => {
      const field = fieldOf(target);
      if (field.matches("[data-help]") && fieldOf(relatedTarget) !== field) close();
    });
    document.addEventListener("selectionchange", () => {
      if (helped && options().length && entered() === helped && !fits(helped)) close();
    });
    addEventListener("resize", close);
    document.addEventListener("htmx:after:swap", () => {
      if (helped?.isConnected && entered() === helped) place(helped);
    });
    document.addEventListener("mousedown", (e) => {
      const option = e.target.closest(".option");
      if (option) {
        e.preventDefault();
        take(option);
      }
    });
    document.addEventListener("keydown", (e) => {
      const field = fieldOf(e.target);
      if (!field.matches?.("[data-help]")) return;
      const all = options(), at = all.findIndex((o) => o.classList.contains("on"));
      if (e.key === "Escape" && box().firstElementChild) {
        close();
        e.preventDefault();
        e.stopImmediatePropagation();
        return;
      }
      if (!all.length && e.key === "ArrowDown" && (field.dataset.code === "formula" || !field.matches("textarea"))) {
        ask(field);
        e.preventDefault();
        return;
      }
      if (!all.length || !fits(field)) return;
      const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
      if (step) {
        const next = all[(at + step + all.length + (at < 0 && step < 0 ? 1 : 0)) % all.length];
        all[at]?.classList.remove("on");
        next.classList.add("on");
        next.scrollIntoView({ block: "nearest" });
        tell("aria-activedescendant", next.id);
      } else if ((e.key === "Tab" && !e.shiftKey || e.key === "Enter") && at >= 0) {
        take(all[at]);
      } else if (e.key === "Tab" && !e.shiftKey && "typed" in all[0].dataset) {
        take(all[0]);
      } else {
        return;
      }
      e.preventDefault();
      e.stopImmediatePropagation();
    }, true);
  }

  // ../internal/web/assets/src/app/keys.js
  var moves = /* @__PURE__ */ new Set(["/", "[", "]", "ArrowLeft", "ArrowRight", "ArrowUp", "ArrowDown"]);
  function afterAnswers(act) {
    const underway = /* @__PURE__ */ new Set(), waiting = [];
    document.addEventListener("htmx:before:request", (e) => underway.add(e.detail.ctx));
    const quiet = () => !underway.size && !unsent.size && !waiting.length;
    const next = () => {
      if (underway.size || unsent.size || !waiting.length) return;
      act(waiting.shift());
      setTimeout(next, 0);
    };
    document.addEventListener("htmx:finally:request", (e) => {
      underway.delete(e.detail.ctx);
      setTimeout(next, 0);
      setTimeout(() => {
        if (quiet()) giveUp();
      }, 50);
    });
    document.addEventListener("hr-sent", () => setTimeout(next, 0));
    return (e) => {
      if (quiet() || !moves.has(e.key) && !hot(e) && !clipKey(e)) return act(e);
      if (waiting.length < 20) waiting.push(e);
      expect(hot(e));
      e.preventDefault();
    };
  }
  function keys() {
    const turn = afterAnswers(pressed);
    document.addEventListener("keydown", (e) => typing(e.target) ? pressed(e) : turn(e));
  }
  var halfOpen = () => !!document.querySelector("details.menu[open], #panel [data-narrow]");
  function pressed(e) {
    if ((e.ctrlKey || e.metaKey) && e.key === "Enter" && press("[data-key=try]")) return e.preventDefault();
    if (typing(e.target)) {
      if (e.key === "Escape") closeTopmost();
      if (e.key === "ArrowDown" && e.target.id === "find") {
        document.querySelector("#found a")?.focus();
        e.preventDefault();
      }
      if (e.key === "Enter" && e.target.id === "find") {
        openFirst(e.target);
        e.preventDefault();
      }
      return;
    }
    if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "z" && press(e.shiftKey ? "[data-key=redo]" : "[data-key=undo]")) return e.preventDefault();
    if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "y" && press("[data-key=redo]")) return e.preventDefault();
    if (clipKey(e) && clipped[e.key.toLowerCase()]()) return e.preventDefault();
    if (e.ctrlKey || e.metaKey || e.altKey) return;
    if (e.target.matches?.("[data-cut]") && cuts(e)) return e.preventDefault();
    if (e.key === "Escape") return closeTopmost();
    if (e.key === "?") return showKeys();
    if (halfOpen() && e.key.length === 1 && e.key !== "/") return;
    const button = hot(e);
    expect(button);
    if (button) {
      button.matches("input, textarea") ? setTimeout(() => button.select()) : button.click();
      return e.preventDefault();
    }
    if (e.key === "/") {
      document.querySelector("#find").focus();
      return e.preventDefault();
    }
    arrows(e);
  }
  function openFirst(field) {
    const typed = field.value.trim(), fresh = () => document.querySelector("#found [data-found]")?.dataset.found === typed;
    if (!typed || fresh()) {
      press("#found a");
      return;
    }
    const open = () => {
      if (!fresh()) return;
      document.removeEventListener("htmx:after:swap", open);
      press("#found a");
    };
    document.addEventListener("htmx:after:swap", open);
    field.addEventListener("input", () => document.removeEventListener("htmx:after:swap", open), { once: true });
  }
  function hot(e) {
    if (e.ctrlKey || e.metaKey || e.altKey) return null;
    const key = e.key.length === 1 ? e.key.toLowerCase() : e.key;
    return document.querySelector(`[data-hot="${CSS.escape((e.shiftKey && e.key.length > 1 ? "Shift+" : "") + key)}"]`);
  }
  function cuts(e) {
    const step = { ArrowRight: 1, ArrowLeft: -1 }[e.key];
    if (!step) return false;
    const at = Number(e.target.dataset.cut);
    if (e.shiftKey) {
      htmx.ajax("POST", e.target.getAttribute("hx-post"), {
        source: "#ruler",
        target: "#work",
        swap: "outerHTML",
        values: { op: step > 0 ? "right" : "left", column: at, revision: document.querySelector("#revision").value }
      }).then(() => document.querySelector(`[data-cut="${at + step}"]`)?.focus());
    } else {
      document.querySelector(`[data-cut="${at + step}"]`)?.focus();
    }
    return true;
  }
  function arrows(e) {
    if (e.key === "[") return press("[data-key=before]");
    if (e.key === "]") return press("[data-key=after]");
    const vertical = document.querySelector("[data-pick=row]");
    const step = vertical ? { ArrowDown: 1, ArrowUp: -1 }[e.key] : { ArrowRight: 1, ArrowLeft: -1 }[e.key];
    if (e.key === "Enter" && vertical && !e.target.closest?.("button, summary, a:not(.sel)")) {
      document.querySelector("#formula, #f-name")?.select();
      return;
    }
    if (!step) return;
    const all = [...document.querySelectorAll("[data-pick]:not([hidden])")];
    const at = all.findIndex((el) => el.classList.contains("sel"));
    const next = all[Math.max(0, Math.min(all.length - 1, at + step))];
    if (next) {
      next.dispatchEvent(new MouseEvent("click", { bubbles: true, cancelable: true }));
      next.scrollIntoView?.({ block: "nearest" });
      e.preventDefault();
    }
  }

  // ../internal/web/assets/src/app/lines.js
  function number() {
    for (const box of document.querySelectorAll("[data-lines]")) {
      const [gutter, text] = box.children;
      const lines = text.value.split("\n").length;
      if (Number(gutter.dataset.count) !== lines) gutter.textContent = Array.from({ length: lines }, (_, i) => i + 1).join("\n") + "\n\n";
      gutter.dataset.count = lines;
      gutter.scrollTop = text.scrollTop;
    }
  }
  function texts() {
    document.addEventListener("input", (e) => {
      if (e.target.closest("[data-lines]")) number();
    });
    document.addEventListener("scroll", (e) => {
      if (e.target.closest?.("[data-lines]")) number();
    }, true);
    document.addEventListener("click", (e) => {
      const link = e.target.closest("[data-goto]");
      const text = link && document.querySelector(link.getAttribute("href"));
      if (!text) return;
      e.preventDefault();
      if (text.goTo) return text.goTo(Number(link.dataset.goto));
      const lines = text.value.split("\n"), line = Number(link.dataset.goto) - 1;
      const from = lines.slice(0, line).reduce((n, l) => n + l.length + 1, 0);
      text.focus();
      text.setSelectionRange(from, from + (lines[line] ?? "").length);
      text.scrollTop = Math.max(0, (line - 5) * parseFloat(getComputedStyle(text).lineHeight));
    });
    document.addEventListener("keydown", (e) => {
      if (e.key !== "s" || !(e.ctrlKey || e.metaKey) || !document.querySelector("[data-save]")) return;
      e.preventDefault();
      press("[data-save]");
    });
  }

  // ../internal/web/assets/src/app/live.js
  var concerns = (changed2, shown2) => changed2 === "*" || changed2 === shown2 || changed2.split(":")[0] === shown2.split(":")[0] && (!changed2.includes(":") || !shown2.includes(":"));
  function live() {
    const stream = document.body.dataset.stream;
    if (!stream) return;
    const shared = `hollowreed ${stream}`;
    const channel = new BroadcastChannel(shared);
    const topics = /* @__PURE__ */ new Set();
    let timer = 0, state = "", holder = false;
    const pass = () => {
      const changed2 = [...topics];
      topics.clear();
      for (const el of document.querySelectorAll("[data-shows]")) {
        const shown2 = el.dataset.shows.split(" ");
        if (changed2.some((topic) => shown2.some((of) => concerns(topic, of)))) el.dispatchEvent(new CustomEvent("hr-change"));
      }
    };
    const tell = (changed2) => {
      for (const topic of changed2.split(" ")) topics.add(topic);
      clearTimeout(timer);
      timer = setTimeout(pass, 150);
    };
    const show = (now) => {
      state = now;
      for (const el of document.querySelectorAll("[data-live]")) {
        el.textContent = now === "on" ? "\u25CF live" : "\u25CB not connected";
        el.className = now === "on" ? "tag live" : "tag bad";
      }
    };
    const say = (now) => {
      show(now);
      channel.postMessage({ now });
    };
    channel.onmessage = ({ data }) => {
      if (data.changed) tell(data.changed);
      else if (data.ask) {
        if (holder) channel.postMessage({ now: state });
      } else show(data.now);
    };
    const listen = () => new Promise((release) => {
      holder = true;
      const source = new EventSource(stream);
      const heard = (changed2) => {
        tell(changed2);
        channel.postMessage({ changed: changed2 });
      };
      source.addEventListener("change", (e) => heard(e.data));
      source.onopen = () => {
        say("on");
        heard("*");
      };
      source.onerror = () => say("off");
      addEventListener("pagehide", () => {
        holder = false;
        source.close();
        release();
      }, { once: true });
    });
    const claim = () => navigator.locks.request(shared, listen);
    claim();
    channel.postMessage({ ask: true });
    tell("*");
    addEventListener("pageshow", (e) => {
      if (e.persisted) {
        tell("*");
        claim();
      }
    });
  }

  // ../internal/web/assets/src/app/measures.js
  function measures() {
    for (const name of ["left", "width", "maxWidth"]) {
      const attribute = "data-" + name.replace(/[A-Z]/, (c) => "-" + c.toLowerCase());
      for (const e of document.querySelectorAll(`[${attribute}]`)) e.style[name] = e.dataset[name];
    }
  }

  // ../internal/web/assets/src/app/places.js
  var scrolled = /* @__PURE__ */ new Map();
  function places() {
    for (const tree of document.querySelectorAll("[data-tree]")) {
      const was = scrolled.get(tree.id);
      if (was?.tree === tree) continue;
      if (was) tree.scrollTop = was.top;
      scrolled.set(tree.id, { tree, top: tree.scrollTop });
      tree.querySelector(".sel")?.scrollIntoView({ block: "nearest" });
    }
  }
  function remember() {
    document.addEventListener("scroll", (e) => {
      if (e.target.matches?.("[data-tree]") && e.target.isConnected) scrolled.set(e.target.id, { tree: e.target, top: e.target.scrollTop });
    }, true);
  }

  // ../internal/web/assets/src/app/refusals.js
  function refusals() {
    const fieldOf2 = (form, name) => {
      const wanted2 = name.toLowerCase(), seen2 = [...form.elements].filter((el) => el.checkVisibility?.() && el.matches("input:not([type=hidden]), select, textarea"));
      return name ? seen2.find((el) => [wanted2, `set ${wanted2}`].includes(el.name.toLowerCase())) ?? seen2.find((el) => [...el.labels ?? []].some((l) => l.textContent.trim().toLowerCase().startsWith(wanted2))) : null;
    };
    const refuse = (form, { what, field: name, id }) => {
      const told = document.createElement("div"), field = fieldOf2(form, name ?? "");
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
      if (url.hash && url.pathname + url.search === location.pathname + location.search) {
        history.replaceState(null, "", url);
        location.reload();
      } else location.assign(url);
    };
    addEventListener("pageshow", () => {
      for (const form of document.querySelectorAll("form[data-sending]")) {
        delete form.dataset.sending;
        form.classList.remove("htmx-request");
      }
    });
    const show = (page, at) => {
      const main = document.importNode(page.querySelector("#main"), true);
      history.pushState(null, "", at);
      document.title = page.title;
      document.querySelector("#main").replaceWith(main);
      htmx.process(main);
      main.dispatchEvent(new Event("change", { bubbles: true }));
      document.dispatchEvent(new CustomEvent("htmx:after:swap"));
      (main.querySelector("[autofocus]") ?? main.querySelector(".field:has(.fault) .in"))?.focus();
      scrollTo({ top: 0 });
    };
    document.addEventListener("submit", async (e) => {
      const form = e.target, button = e.submitter;
      if (e.defaultPrevented || form.method !== "post" || form.matches("[hx-post], [data-edit], [target]") || button?.hasAttribute("hx-post")) return;
      e.preventDefault();
      if ("sending" in form.dataset) return;
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
        if (answer.headers.get("Content-Type")?.startsWith("application/json")) {
          leaves = false;
          return refuse(form, await answer.json());
        }
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

  // ../internal/web/assets/src/app/sources.js
  function sources() {
    let last = null;
    document.addEventListener("focusin", (e) => {
      if (fieldOf(e.target).matches("[data-help]")) last = fieldOf(e.target);
    });
    document.addEventListener("click", (e) => {
      const row = !e.target.closest("[data-apart]") && e.target.closest("[data-insert]");
      const field = last?.isConnected ? last : document.querySelector("#formula");
      if (!row || !field) return;
      const at = field.selectionStart ?? field.value.length;
      field.setRangeText(row.dataset.insert, at, field.selectionEnd ?? at, "end");
      field.dispatchEvent(new Event("input", { bubbles: true }));
      field.focus();
    });
  }

  // ../internal/web/assets/src/app/trees.js
  var twisted = /* @__PURE__ */ new Set();
  var sought = /* @__PURE__ */ new Map();
  var only = /* @__PURE__ */ new Map();
  var rowName = (row) => row.dataset.source ?? row.dataset.target;
  function trees() {
    for (const tree of document.querySelectorAll("[data-tree]")) {
      const key = "#" + tree.id, text = (sought.get(key) ?? "").toLowerCase(), is = only.get(key);
      const rows = [...tree.querySelectorAll("[data-depth]")], around = [];
      const wanted2 = (row) => (!text || rowName(row).split(/[./]/).pop().toLowerCase().includes(text)) && (!is || row.dataset.is === is);
      let folded2 = Infinity;
      for (const row of rows) {
        const depth = Number(row.dataset.depth);
        around.length = depth;
        around[depth] = row;
        if (depth <= folded2) folded2 = Infinity;
        row.hidden = text || is ? !wanted2(row) : depth > folded2;
        if ((text || is) && !row.hidden) {
          for (const r of around) if (r) r.hidden = false;
        }
        const twist = row.querySelector("[data-twist]"), closed = twisted.has(rowName(row));
        if (twist) twist.setAttribute(twist.matches("button") ? "aria-expanded" : "data-shut", String(twist.matches("button") ? !closed : closed));
        if (closed && depth < folded2) folded2 = depth;
      }
      for (const b of document.querySelectorAll("[data-only]")) b.setAttribute("aria-pressed", String(only.get(b.dataset.of) === b.dataset.only));
      for (const f of document.querySelectorAll("[data-find]")) if (f.value !== (sought.get(f.dataset.find) ?? "")) f.value = sought.get(f.dataset.find) ?? "";
    }
  }
  function twists() {
    const draw = () => {
      trees();
      ribbons();
    };
    document.addEventListener("click", (e) => {
      const twist = e.target.closest("[data-twist]"), toggle = e.target.closest("[data-only]");
      if (twist) {
        const name = rowName(twist.closest("[data-depth]"));
        if (!twisted.delete(name)) twisted.add(name);
        e.preventDefault();
        e.stopPropagation();
      } else if (toggle) {
        const { of, only: is } = toggle.dataset;
        only.set(of, only.get(of) === is ? "" : is);
      } else {
        return;
      }
      draw();
    }, true);
    document.addEventListener("input", (e) => {
      if (!e.target.matches("[data-find]")) return;
      sought.set(e.target.dataset.find, e.target.value);
      draw();
    });
  }

  // ../internal/web/assets/src/app.js
  htmx.config.defaultSettleDelay = 0;
  addEventListener("DOMContentLoaded", () => {
    document.querySelector("#show-keys")?.addEventListener("click", () => showKeys());
    for (const behaviour of [focusMeant, boxes, fills, remember, focusStays, guards, clicksWait, answersFind, narrow, clips, carries, live, outline, depending, edits, keys, sources, drags, twists, trees, places, measures, helps, texts, number, folds, ribbons, codes, codesStay]) behaviour();
    document.fonts.ready.then(ribbons);
    refusals();
  });
  document.addEventListener("htmx:after:swap", () => {
    trees();
    places();
    measures();
  });
  document.addEventListener("htmx:after:swap", ribbons);
  document.addEventListener("htmx:after:swap", number);
  document.addEventListener("htmx:after:swap", codes);
  document.addEventListener("htmx:after:swap", fold);
  addEventListener("resize", ribbons);
  document.addEventListener("scroll", ribbons, true);
})();
