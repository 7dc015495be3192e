// Tickets on a telephone: large and bright, one after the other, at the door; and there without
// network, once the page was opened.
(() => {
  "use strict";
  // A page that was kept holds what this script made of it.
  for (const old of document.querySelectorAll(".showtickets, dialog.atdoor, main > .note.keep.kept")) old.remove();
  const all = [...document.querySelectorAll(".tickets .ticket:not(.over)")].filter((t) => t.querySelector(".qr"));
  if (!all.length) return;
  const make = (name, cls, words) => { const e = document.createElement(name); e.className = cls ?? ""; if (words) e.textContent = words; return e; };
  const open = make("button", "btn btn-primary showtickets", all.length > 1 ? "Show them at the door" : "Show it at the door");
  open.type = "button";
  document.querySelector(".tickets").before(open);
  const dialog = make("dialog", "atdoor"), face = make("div", "face"), bar = make("div", "turn");
  const before = make("button", "", "Before"), next = make("button", "", "Next"), close = make("button", "", "Close"), count = make("p", "count");
  for (const b of [before, next, close]) b.type = "button";
  bar.append(before, count, next, close);
  dialog.append(face, bar);
  dialog.setAttribute("aria-label", "Tickets, one after the other");
  document.body.append(dialog);
  let at = 0, awake = null;
  const draw = () => {
    const ticket = all[at];
    face.replaceChildren(ticket.querySelector(".qr").cloneNode(true), make("p", "name", ticket.querySelector(".name").textContent), make("p", "", ticket.querySelector(".name + span")?.textContent ?? ""), make("p", "code", ticket.querySelector(".code").textContent));
    count.textContent = all.length > 1 ? `${at + 1} of ${all.length}` : "";
    before.hidden = next.hidden = all.length < 2;
    before.disabled = at === 0;
    next.disabled = at === all.length - 1;
  };
  const go = (by) => { at = Math.max(0, Math.min(all.length - 1, at + by)); draw(); };
  open.addEventListener("click", async () => { draw(); dialog.showModal(); awake = await navigator.wakeLock?.request("screen").catch(() => null); });
  before.addEventListener("click", () => go(-1));
  next.addEventListener("click", () => go(1));
  close.addEventListener("click", () => dialog.close());
  dialog.addEventListener("close", () => awake?.release().catch(() => {}));
  dialog.addEventListener("keydown", (e) => { if (e.key === "ArrowRight") go(1); if (e.key === "ArrowLeft") go(-1); });
  let from = 0;
  dialog.addEventListener("touchstart", (e) => { from = e.changedTouches[0].clientX; }, { passive: true });
  dialog.addEventListener("touchend", (e) => { const by = e.changedTouches[0].clientX - from; if (Math.abs(by) > 60) go(by < 0 ? 1 : -1); });

  // Kept on telephones only: a page on a desk may be anybody's.
  if (!("serviceWorker" in navigator) || !matchMedia("(pointer: coarse)").matches) return;
  const scope = location.pathname.startsWith("/ticket/") ? "/ticket/" : "/booking/";
  navigator.serviceWorker.register("/tickets-keeper.js", { scope }).then(async () => {
    const ready = await navigator.serviceWorker.ready;
    if (!document.documentElement.dataset.kept) ready.active.postMessage({ keep: location.pathname, html: document.documentElement.outerHTML });
  }).catch(() => {});
  const kept = document.documentElement.dataset.kept;
  if (kept) document.querySelector("main").prepend(make("p", "note keep kept", `Without network: this is how it stood ${kept}. The tickets hold.`));
})();
