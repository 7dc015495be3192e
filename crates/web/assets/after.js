// The list of who came, gone through with one key each: the answer is fetched and the next row
// is at hand at once.
(() => {
  "use strict";
  const list = document.getElementById("afterlist");
  if (!list) return;
  const rows = () => [...list.querySelectorAll("li")];
  const at = () => rows().indexOf(document.activeElement.closest?.("#afterlist li"));
  const go = (n) => { const all = rows(); all[Math.max(0, Math.min(all.length - 1, n))]?.focus(); };
  const first = rows().find((r) => r.dataset.mark === "open") ?? rows()[0];
  const target = document.getElementById(location.hash.slice(1));
  (target ?? first)?.focus({ preventScroll: !target });
  const mark = async (row, key) => {
    const button = row.querySelector(`[data-key="${key}"]`);
    if (!button) return;
    const form = button.form, body = new URLSearchParams(new FormData(form));
    body.set("mark", button.value);
    const answer = await fetch(form.action, { method: "POST", body }).catch(() => null);
    if (!answer?.ok) { document.getElementById("flash").textContent = "That was not kept. Load the page again and look."; return; }
    const page = new DOMParser().parseFromString(await answer.text(), "text/html");
    for (const css of [`#${row.id}`, ".news", "main form:last-of-type .hint"]) {
      const fresh = page.querySelector(css), old = document.querySelector(css);
      if (fresh && old) old.replaceWith(fresh); else if (fresh && css === ".news") document.querySelector("main").prepend(fresh);
    }
  };
  document.addEventListener("keydown", (e) => {
    if (e.ctrlKey || e.metaKey || e.altKey || e.target.matches("input, textarea, select")) return;
    const n = at();
    if (e.key === "ArrowDown" || e.key === "ArrowUp") { e.preventDefault(); go(n + (e.key === "ArrowDown" ? 1 : -1)); return; }
    const key = e.key.toUpperCase();
    if (!["C", "L", "M"].includes(key)) return;
    e.preventDefault();
    // Nobody is said anything of who is not seen to be meant.
    if (n < 0) { (rows().find((r) => r.dataset.mark === "open") ?? rows()[0])?.focus(); return; }
    const row = rows()[n];
    go(n + 1);
    mark(row, key);
  });
})();
