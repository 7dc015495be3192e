// Counts the time down that seats are still kept, and asks for the same seats
// again, once, when it is over.
(() => {
  "use strict";
  let timer = 0;
  const start = () => {
    clearInterval(timer);
    const line = document.querySelector(".deadline[data-left]");
    if (!line) return;
    const end = performance.now() + Number(line.dataset.left) * 1000;
    const togo = line.querySelector(".togo");
    const show = () => {
      const left = Math.max(0, Math.round((end - performance.now()) / 1000));
      const minutes = Math.floor(left / 60);
      togo.textContent = left > 90 ? `${Math.round(left / 60)} minutes left` : left > 0 ? `${minutes ? "1 minute " : ""}${left % 60} seconds left` : "";
      line.classList.toggle("soon", left <= 120);
      if (left === 0) {
        clearInterval(timer);
        tryAgain();
      }
    };
    show();
    timer = setInterval(show, 1000);
  };
  const tryAgain = async () => {
    const form = document.querySelector("#details");
    const summary = document.querySelector("#summary");
    if (!form || !summary) return;
    const body = new URLSearchParams(new FormData(form));
    try {
      const answer = await fetch(form.getAttribute("action").replace(/\/book$/, "/again"), {
        method: "POST", body, headers: { "HX-Request": "true" },
      });
      if (!answer.ok) return;
      const fresh = document.createElement("template");
      fresh.innerHTML = await answer.text();
      summary.replaceWith(fresh.content);
      start();
    } catch { /* no network: the form itself tries again when it is sent */ }
  };
  // A second click while the first is under way books nothing twice, but would look odd.
  document.addEventListener("submit", (e) => {
    const button = e.submitter;
    if (e.target.id === "details" && button) setTimeout(() => { button.disabled = true; setTimeout(() => { button.disabled = false; }, 4000); });
  });
  window.addEventListener("pageshow", start);

  // What is typed is kept field by field, a moment after it was typed and when the page is left:
  // of two devices with the same booking neither puts the other's fields back.
  const form = document.querySelector("#details[data-draft]");
  if (!form) return;
  // A page that was refused is loaded again at the booking's own address: what stands there is newer.
  if (/[?&]kept=/.test(location.search)) history.replaceState(null, "", form.dataset.draft.replace(/\/draft$/, ""));
  const saved = document.querySelector("#saved"), dirty = new Set();
  let wait = 0;
  const part = () => {
    const all = new FormData(form), body = new URLSearchParams({ token: all.get("token"), part: "yes" });
    for (const name of dirty) {
      const values = all.getAll(name);
      for (const value of values.length ? values : [""]) body.append(name, value);
    }
    return body;
  };
  const save = async () => {
    clearTimeout(wait);
    if (!dirty.size) return;
    const names = [...dirty], body = part();
    dirty.clear();
    const answer = await fetch(form.dataset.draft, { method: "POST", body }).catch(() => null);
    if (answer?.ok) { saved.textContent = await answer.text(); return; }
    // It goes with the next.
    for (const name of names) dirty.add(name);
    saved.textContent = "Not saved just now. It is tried again as you go on.";
  };
  const soon = (e, after) => {
    if (!e.target.name || ["token", "code", "tried", "back"].includes(e.target.name)) return;
    dirty.add(e.target.name);
    clearTimeout(wait);
    wait = setTimeout(save, after);
  };
  form.addEventListener("input", (e) => soon(e, 400));
  form.addEventListener("change", (e) => soon(e, 100));
  // A page that is loaded again was asked for before this one was left: what was typed in its last
  // moment is handed to it in the tab, too.
  const last = `typed ${form.dataset.draft}`;
  const leave = () => {
    if (!dirty.size) return;
    const body = part();
    sessionStorage.setItem(last, body.toString());
    if (navigator.sendBeacon(form.dataset.draft, body)) dirty.clear();
  };
  const handed = sessionStorage.getItem(last);
  if (handed) {
    sessionStorage.removeItem(last);
    const fields = new URLSearchParams(handed);
    for (const name of new Set(fields.keys())) {
      if (["token", "part"].includes(name)) continue;
      const values = fields.getAll(name);
      for (const input of form.querySelectorAll(`[name="${CSS.escape(name)}"]`)) {
        if (["checkbox", "radio"].includes(input.type)) input.checked = values.includes(input.value);
        else input.value = values[0];
      }
      dirty.add(name);
    }
    save();
  }
  form.addEventListener("submit", () => { clearTimeout(wait); dirty.clear(); });
  window.addEventListener("pagehide", leave);
  document.addEventListener("visibilitychange", () => { if (document.visibilityState === "hidden") leave(); });
})();
