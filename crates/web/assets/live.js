// Parts of a page that keep themselves up to date: what the server sends replaces
// what stands in them. A hidden page lets go of its connection, since browsers allow
// only a few to one server; shown again, it is told at once how things stand.
(() => {
  "use strict";
  const parts = [...document.querySelectorAll("[data-live]")].map((part) => ({ part, source: null }));
  const tell = (up) => document.dispatchEvent(new CustomEvent("live", { detail: { up } }));
  const connect = (live) => {
    if (live.source) return;
    live.source = new EventSource(live.part.dataset.live);
    live.source.onmessage = ({ data }) => { live.part.innerHTML = data; tell(true); };
    live.source.onerror = () => {
      tell(false);
      // The browser connects again by itself, unless the server said no.
      if (live.source?.readyState === EventSource.CLOSED) {
        live.source = null;
        setTimeout(() => { if (!document.hidden) connect(live); }, 3000);
      }
    };
  };
  const part = (live) => { live.source?.close(); live.source = null; };
  const follow = () => parts.forEach(document.hidden ? part : connect);
  document.addEventListener("visibilitychange", follow);
  window.addEventListener("pagehide", () => parts.forEach(part));
  window.addEventListener("pageshow", follow);
})();
