// Keys for staff; off while typing.
(() => {
  "use strict";
  const go = { t: "/office", e: "/office/events", o: "/office/board", b: "/office/bookings", h: "/office/house", d: "/door", n: "/office/events/new" };
  let at = -1;
  const move = (by) => {
    const rows = [...document.querySelectorAll("[data-row]")];
    if (!rows.length) return;
    rows[at]?.classList.remove("at");
    at = Math.min(rows.length - 1, Math.max(0, at + by));
    rows[at].classList.add("at");
    const link = rows[at].matches("a") ? rows[at] : rows[at].querySelector("a");
    link?.focus();
    rows[at].scrollIntoView({ block: "nearest" });
  };
  document.addEventListener("keydown", (e) => {
    if (e.ctrlKey || e.altKey || e.metaKey || e.isComposing) return;
    if (e.target.closest("input, textarea, select, [contenteditable], dialog")) {
      if (e.key === "Escape") e.target.blur();
      return;
    }
    const find = document.querySelector(".find input");
    if (e.key === "/" && find) { e.preventDefault(); find.focus(); }
    else if (e.key === "?") document.querySelector("#keys")?.showModal();
    else if (e.key === "j") move(1);
    else if (e.key === "k") move(-1);
    else if (go[e.key]) location.href = go[e.key];
  });
  // A whole row opens what its first link opens.
  document.addEventListener("click", (e) => {
    const row = e.target.closest("tr[data-row]");
    if (row && !e.target.closest("a, button, input") && !String(getSelection())) row.querySelector("a")?.click();
  });
})();
