// Manners of every page: after a refusal it stands at the first field in question, focused;
// what has to be typed elsewhere is copied by a button beside it.
(() => {
  "use strict";
  const seen = (e) => e.offsetParent !== null;
  // The field that a sentence of refusal is about: the one it describes, or one beside it.
  const fieldOf = (said) => said.matches("input, select, textarea") ? said
    : document.querySelector(`[aria-describedby~="${CSS.escape(said.closest("[id]")?.id ?? "")}"]`)
      ?? said.closest(".field, fieldset")?.querySelector("input:not([type=hidden]), select, textarea");
  const stand = (within) => {
    const all = [...within.querySelectorAll(".is-invalid, [aria-invalid=true], .wrong:not(.note)")].filter(seen);
    const said = all[0] ?? [...within.querySelectorAll(".note.wrong")].find(seen);
    if (!said) return;
    const at = fieldOf(said) ?? said;
    if (at === said && !said.matches("input, select, textarea")) at.tabIndex = -1;
    at.focus({ preventScroll: true });
    at.scrollIntoView({ block: "center" });
  };
  // A telephone opens its own map.
  if (matchMedia("(pointer: coarse)").matches) {
    for (const link of document.querySelectorAll('a[href*="/search?query="]')) link.href = `geo:0,0?q=${link.href.split("query=")[1]}`;
  }
  // A field that somebody else changed meanwhile is named as its label names it.
  for (const line of document.querySelectorAll("[data-of]")) {
    const label = document.querySelector(`label[for="${CSS.escape(line.dataset.of)}"]`)?.firstChild?.textContent.trim();
    if (label) line.firstElementChild.textContent = label;
  }
  if (new URLSearchParams(location.search).has("kept")) stand(document.querySelector("#main"));
  document.addEventListener("htmx:after:swap", (e) => {
    const part = e.detail?.ctx?.target ?? e.target;
    if (part instanceof Element && part.id !== "names") stand(part);
  });
  // On a phone what narrows a list is folded, so that the list itself is in view.
  const narrow = document.querySelector(".narrower");
  if (narrow && matchMedia("(max-width: 700px)").matches && ![...narrow.querySelectorAll("select, input")].some((e) => e.type === "checkbox" ? e.checked : e.value)) narrow.open = false;
  // Whoever signs out, or hands a device back, takes along what it kept of the door: names and
  // the keys to them. What waits to be sent is asked about first.
  document.addEventListener("submit", async (e) => {
    const form = e.target;
    if (!form.matches('[action="/sign-out"], [data-leaves]') || form.dataset.wiped || !window.indexedDB) return;
    e.preventDefault();
    form.dataset.wiped = "yes";
    try {
      const known = await indexedDB.databases?.() ?? [];
      if (known.some(({ name }) => name === "door")) {
        if (!window.doorKeep) await new Promise((done, no) => {
          const script = document.createElement("script");
          script.src = document.querySelector('script[src$="/page.js"]').src.replace("page.js", "door-keep.js");
          script.onload = done;
          script.onerror = no;
          document.head.append(script);
        });
        const waits = (await window.doorKeep.queue.all()).length;
        if (waits && !confirm(`${waits === 1 ? "One scan waits" : `${waits} scans wait`} on this device to be sent. They are lost if you go now. Go all the same?`)) { delete form.dataset.wiped; return; }
        await window.doorKeep.wipe(true);
      }
    } catch { /* nothing was kept */ }
    form.submit();
  });
  // One ticket more or less counts at once, however slow the network is: the sum follows, and what
  // was pressed meanwhile goes after it.
  const pressed = new Map(), sent = new Map();
  let soon = 0;
  const ask = () => {
    clearTimeout(soon);
    soon = setTimeout(() => {
      sent.clear();
      for (const [id, n] of pressed) sent.set(id, n);
      const last = [...pressed.keys()].pop();
      document.getElementById(last)?.dispatchEvent(new Event("change", { bubbles: true }));
    }, 150);
  };
  document.addEventListener("click", (e) => {
    const step = e.target.closest?.(".stepper .step");
    const input = step?.parentElement.querySelector("input[hx-post]");
    if (!input) return;
    e.preventDefault();
    e.stopImmediatePropagation();
    const n = Math.max(0, (Number(input.value) || 0) + (step.id.startsWith("more") ? 1 : -1));
    input.value = String(n);
    pressed.delete(input.id);
    pressed.set(input.id, String(n));
    ask();
  }, true);
  document.addEventListener("htmx:after:swap", () => {
    let more = false;
    for (const [id, n] of [...pressed]) {
      const input = document.getElementById(id);
      if (!input || sent.get(id) === n) { pressed.delete(id); continue; }
      input.value = n;
      more = true;
    }
    if (more) ask();
  });
  // A number that is typed takes the place of the one that stands there.
  document.addEventListener("focusin", (e) => { if (e.target.matches(".stepper input")) e.target.select(); });
  if (!navigator.clipboard) return;
  for (const button of document.querySelectorAll("[data-copy]")) button.hidden = false;
  document.addEventListener("click", async (e) => {
    const button = e.target.closest("[data-copy]");
    if (!button) return;
    await navigator.clipboard.writeText(button.dataset.copy);
    button.firstChild.textContent = "Copied";
  });
  // The bar at the foot of a telephone makes way as soon as the booking box is reached.
  const bar = document.querySelector(".bookbar");
  if (bar) {
    const look = () => { const box = document.getElementById("book"); bar.hidden = !box || box.getBoundingClientRect().top < innerHeight - 80; };
    for (const when of ["scroll", "resize"]) addEventListener(when, look, { passive: true });
    look();
  }
})();
