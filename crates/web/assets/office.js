// Keys for staff; off while typing.
(() => {
  "use strict";
  const go = { t: "/office", e: "/office/events", o: "/office/board", b: "/office/bookings", h: "/office/house", m: "/office/messages", r: "/office/review", d: "/door", n: "/office/events/new" };
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
    else if (go[e.key] && (document.querySelector("#keys")?.dataset.keys ?? "").includes(e.key)) location.href = go[e.key];
  });
  // A whole row opens what its first link opens.
  document.addEventListener("click", (e) => {
    const row = e.target.closest("tr[data-row]");
    if (row && !e.target.closest("a, button, input") && !String(getSelection())) row.querySelector("a")?.click();
  });
  // On a phone the tabs run past the edge: the open one is brought into view.
  for (const open of document.querySelectorAll(".rooms .on, .tabs .on")) {
    const [strip, tab] = [open.parentElement.getBoundingClientRect(), open.getBoundingClientRect()];
    open.parentElement.scrollLeft += tab.left - strip.left - (strip.width - tab.width) / 2;
  }
  // Beside a field for a day stands the day in words: browsers write days in their own order.
  const inWords = (input) => {
    let word = input.parentElement.querySelector(":scope > .dayword");
    if (!word) {
      word = Object.assign(document.createElement("output"), { className: "dayword" });
      if (input.id) word.htmlFor = input.id;
      input.after(word);
    }
    const [day, time] = input.value.split("T");
    const at = day ? new Date(`${day}T12:00:00`) : null;
    word.value = at && !isNaN(at)
      ? at.toLocaleDateString("en-GB", { weekday: "long", day: "numeric", month: "long", year: "numeric" }) + (time ? `, ${time}` : "")
      : "";
  };
  for (const input of document.querySelectorAll("input[type=date], input[type=datetime-local]")) inWords(input);
  document.addEventListener("input", (e) => { if (e.target.matches("input[type=date], input[type=datetime-local]")) inWords(e.target); });
  // What is typed into a form outlives going back and reloading, in this tab.
  const kept = () => [...document.querySelectorAll("form.card-form")].filter((f) => !f.querySelector("[type=file], [type=password]"));
  const name = (f) => `typed ${location.pathname}${location.search} ${f.getAttribute("action")}`;
  const again = ["back_forward", "reload"].includes(performance.getEntriesByType("navigation")[0]?.type);
  for (const form of kept()) {
    const stored = sessionStorage.getItem(name(form));
    if (stored && again) {
      for (const [field, value] of JSON.parse(stored)) {
        for (const input of form.querySelectorAll(`[name="${CSS.escape(field)}"]`)) {
          if (input.type === "hidden") continue;
          if (["checkbox", "radio"].includes(input.type)) { if (input.value === value) input.checked = true; } else input.value = value;
        }
      }
    } else if (stored) sessionStorage.removeItem(name(form));
    form.addEventListener("input", () => {
      sessionStorage.setItem(name(form), JSON.stringify([...new FormData(form)].filter(([field]) => field !== "token")));
    });
  }
})();
