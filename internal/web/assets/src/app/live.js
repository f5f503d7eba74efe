// What changes anywhere is told by server-sent events, as topics: a kind, and mostly of what ("runs:vehicle", "run:0195…",
// "part:flows%2Fvehicle.yaml"). A part of the page says with data-shows which topics it shows; it is sent hr-change when one of
// them has changed, and fetches itself anew. Browsers allow few connections to one server, so of all open pages of a project one listens,
// under a lock, and passes it on to the others.

// concerns says whether a change of a topic concerns what is shown: the same, or one of them is all of its kind.
export const concerns = (changed, shown) => changed === "*" || changed === shown
  || changed.split(":")[0] === shown.split(":")[0] && (!changed.includes(":") || !shown.includes(":"));

export function live() {
  const stream = document.body.dataset.stream;
  if (!stream) return;
  const shared = `hollowreed ${stream}`; // by the pages of a project
  const channel = new BroadcastChannel(shared);
  const topics = new Set();
  let timer = 0, state = "", holder = false;
  const pass = () => {
    const changed = [...topics];
    topics.clear();
    for (const el of document.querySelectorAll("[data-shows]")) {
      const shown = el.dataset.shows.split(" ");
      if (changed.some((topic) => shown.some((of) => concerns(topic, of)))) el.dispatchEvent(new CustomEvent("hr-change"));
    }
  };
  const tell = (changed) => {
    for (const topic of changed.split(" ")) topics.add(topic);
    clearTimeout(timer);
    timer = setTimeout(pass, 150);
  };
  const show = (now) => {
    state = now;
    for (const el of document.querySelectorAll("[data-live]")) {
      el.textContent = now === "on" ? "● live" : "○ not connected";
      el.className = now === "on" ? "tag live" : "tag bad";
    }
  };
  const say = (now) => { show(now); channel.postMessage({ now }); };
  channel.onmessage = ({ data }) => {
    if (data.changed) tell(data.changed);
    else if (data.ask) { if (holder) channel.postMessage({ now: state }); }
    else show(data.now);
  };
  const listen = () => new Promise((release) => {
    holder = true;
    const source = new EventSource(stream);
    const heard = (changed) => { tell(changed); channel.postMessage({ changed }); };
    source.addEventListener("change", (e) => heard(e.data));
    source.onopen = () => { say("on"); heard("*"); }; // what happened before it was open is not told again
    source.onerror = () => say("off");
    addEventListener("pagehide", () => { holder = false; source.close(); release(); }, { once: true });
  });
  const claim = () => navigator.locks.request(shared, listen);
  claim();
  channel.postMessage({ ask: true });
  tell("*"); // the page may have been drawn a moment before somebody changed something
  addEventListener("pageshow", (e) => { if (e.persisted) { tell("*"); claim(); } });
}
