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
})();
