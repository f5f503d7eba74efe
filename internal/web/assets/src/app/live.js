// Changes anywhere are told by server-sent events; parts of the page that show them carry
// hx-trigger="hr-change from:body" and fetch themselves anew. Browsers allow few connections to
// one server, so of all open pages one listens, under a lock, and passes it on to the others.
export function live() {
  const channel = new BroadcastChannel("hollowreed-live");
  let timer = 0, state = "", holder = false;
  const tell = () => {
    clearTimeout(timer);
    timer = setTimeout(() => document.body.dispatchEvent(new CustomEvent("hr-change")), 150);
  };
  const show = (now) => {
    state = now;
    for (const el of document.querySelectorAll("[data-live]")) {
      el.textContent = now === "on" ? "● live" : "○ not connected";
      el.className = now === "on" ? "tag live" : "tag bad";
    }
  };
  const say = (now) => { show(now); channel.postMessage(now); };
  channel.onmessage = ({ data }) => {
    if (data === "change") tell();
    else if (data === "ask") { if (holder) channel.postMessage(state); }
    else show(data);
  };
  const listen = () => new Promise((release) => {
    holder = true;
    const source = new EventSource("/live");
    const pass = () => { tell(); channel.postMessage("change"); };
    source.addEventListener("change", pass);
    source.onopen = () => { say("on"); pass(); }; // what happened before it was open is not told again
    source.onerror = () => say("off");
    addEventListener("pagehide", () => { holder = false; source.close(); release(); }, { once: true });
  });
  const claim = () => navigator.locks.request("hollowreed-live", listen);
  claim();
  channel.postMessage("ask");
  tell(); // the page may have been drawn a moment before somebody changed something
  addEventListener("pageshow", (e) => { if (e.persisted) { tell(); claim(); } });
}
