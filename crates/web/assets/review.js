// Deciding without loading the page again: the next one stands ready before it is needed, and a
// decision that is refused comes back with what happened.
(() => {
  "use strict";
  const root = document.querySelector("#review");
  if (!root) return;
  const queue = root.querySelector("#queue"), article = root.querySelector("#article"), said = root.querySelector("#said");
  const token = root.dataset.token, ahead = new Map();
  let last = null, open = root.dataset.open;
  const rows = () => [...queue.children];
  const row = (key) => queue.querySelector(`[data-key="${CSS.escape(key)}"]`);
  const count = () => { root.querySelector("#waiting").textContent = rows().length; };
  const fragment = (html) => { const t = document.createElement("template"); t.innerHTML = html; return t.content; };
  const load = (key) => {
    if (!ahead.has(key)) {
      ahead.set(key, fetch(`/office/review/${key}/part`, { headers: { "x-part": "1" } })
        .then((r) => r.ok ? r.text() : Promise.reject(r.status))
        .catch(() => { ahead.delete(key); return null; }));
    }
    return ahead.get(key);
  };
  const ready = new Map();
  // Those that come next are loaded and kept as they will be shown.
  const prepare = () => {
    const all = rows(), at = Math.max(0, all.findIndex((r) => r.dataset.key === open));
    for (const next of [...all.slice(at + 1), ...all.slice(0, at)].slice(0, 3)) {
      const key = next.dataset.key;
      if (!ready.has(key)) load(key).then((html) => { if (html) ready.set(key, html); });
    }
  };
  const tell = (html, wrong) => {
    said.replaceChildren(fragment(html));
    said.firstElementChild?.classList.toggle("wrong", wrong);
    if (wrong) said.firstElementChild?.classList.remove("keep");
    const line = said.querySelector("[data-figures]");
    if (line) { root.querySelector("#figures").textContent = line.textContent; line.remove(); }
  };
  const plain = (text, wrong) => { const p = document.createElement("p"); p.className = "note"; p.textContent = text; tell(p.outerHTML, wrong); };
  const draw = (html) => {
    article.replaceChildren(fragment(html));
    const shown = article.firstElementChild;
    shown?.focus({ preventScroll: true });
    if (article.getBoundingClientRect().top < 0) article.scrollIntoView({ block: "start" });
    document.title = document.title.replace(/^[^·]*/, `Review ${rows().length} `);
  };
  const mark = (key) => {
    for (const r of rows()) r.classList.toggle("on", r.dataset.key === key);
    open = key;
    if (key) history.replaceState(null, "", row(key)?.querySelector("a")?.getAttribute("href") ?? "/office/review");
    else history.replaceState(null, "", "/office/review");
  };
  const nothing = async () => {
    mark("");
    const html = await fetch("/office/review/empty", { headers: { "x-part": "1" } }).then((r) => r.text()).catch(() => "");
    if (!open) draw(html);
  };
  const show = async (key) => {
    if (!key) return nothing();
    mark(key);
    const html = ready.get(key) ?? await load(key);
    ready.delete(key); ahead.delete(key);
    if (open !== key) return;
    if (html === null) return plain("It could not be loaded. Look at the network, then choose it in the queue.", true);
    draw(html);
    look();
    prepare();
  };
  const following = (key) => {
    const all = rows(), at = all.findIndex((r) => r.dataset.key === key);
    const rest = [...all.slice(at + 1), ...all.slice(0, Math.max(at, 0))];
    return rest[0]?.dataset.key ?? "";
  };
  const post = (to, body) => {
    body.set("token", token);
    return fetch(to, { method: "POST", body: new URLSearchParams(body), headers: { "x-part": "1", "x-form-token": token } });
  };
  // A decision: the next one is shown at once; what is refused comes back.
  const decide = async (form, button) => {
    const shown = form.closest("article"), key = shown.dataset.key, body = new FormData(form, button);
    const words = form.querySelector("textarea[name=words]");
    if (words && !words.value.trim()) { words.focus(); plain("Say why: whoever reads it wants to know.", true); return; }
    const kept = row(key), place = kept?.nextSibling ?? null, next = following(key);
    kept?.remove(); count();
    ready.delete(key); ahead.delete(key);
    const drawn = show(next === key ? "" : next);
    let answer = null, text = "";
    try { answer = await post(form.getAttribute("action"), body); text = await answer.text(); } catch { /* told below */ }
    if (answer?.ok) {
      last = { key, row: kept, place, undo: fragment(text).querySelector("[data-undo]")?.getAttribute("action") };
      tell(text, false);
      if (!rows().length) { await drawn; await nothing(); }
    } else {
      // Somebody was faster, or it needs another look: it is in view again, with why.
      if (kept) { queue.insertBefore(kept, place?.parentNode === queue ? place : null); count(); }
      await drawn;
      await show(key);
      if (answer && answer.status === 409) tell(text, true);
      else plain("That did not get through. Nothing was decided: try again.", true);
      const still = article.querySelector(".decide");
      if (kept && !still) { kept.remove(); count(); }
    }
  };
  const undo = async (action) => {
    const to = action ?? last?.undo;
    if (!to) return plain("There is nothing to take back on this page.", true);
    const body = new FormData();
    body.set("act", "undo");
    let answer = null, text = "";
    try { answer = await post(to, body); text = await answer.text(); } catch { /* told below */ }
    if (!answer?.ok) return answer ? tell(text, true) : plain("That did not get through. Try again.", true);
    tell(text, false);
    const back = last;
    last = null;
    if (back?.row) { queue.insertBefore(back.row, back.place?.parentNode === queue ? back.place : null); count(); ready.delete(back.key); ahead.delete(back.key); await show(back.key); }
    else location.reload();
  };
  const correct = async (form) => {
    const shown = form.closest("article"), area = form.querySelector("[data-words-of]"), body = new FormData(form);
    const words = shown.querySelector("[data-words]");
    if (area && words.isContentEditable) body.set("description", words.innerHTML);
    const answer = await post(form.getAttribute("action"), body).catch(() => null);
    if (!answer) return plain("That did not get through. Try again.", true);
    draw(await answer.text());
    if (answer.ok) {
      plain("Corrected. The submitter reads what was changed, with your decision.", false);
      const at = article.firstElementChild, light = row(at.dataset.key)?.querySelector(".light");
      if (light) { light.className = `light light-${at.dataset.class}`; row(at.dataset.key).querySelector(".lightword").textContent = at.querySelector(".lightline b").textContent; }
    }
  };
  document.addEventListener("submit", (e) => {
    const form = e.target;
    if (form.matches("[data-act], [data-complaint]")) { e.preventDefault(); decide(form, e.submitter); }
    else if (form.matches("[data-undo]")) { e.preventDefault(); undo(form.getAttribute("action")); }
    else if (form.matches("[data-correct]")) { e.preventDefault(); correct(form); }
  });
  document.addEventListener("click", async (e) => {
    const skip = e.target.closest("[data-skip]"), link = e.target.closest("#queue a"), ready = e.target.closest("[data-say]"), all = e.target.closest("#accept-right");
    if (skip) show(following(open) || open);
    else if (link && !e.ctrlKey && !e.metaKey && !e.shiftKey) { e.preventDefault(); show(link.closest("li").dataset.key); if (matchMedia("(max-width: 820px)").matches) link.closest("details").open = false; }
    else if (ready) { const area = ready.closest("form").querySelector("textarea"); area.value = `${area.value.trim()} ${ready.dataset.say}`.trim(); area.focus(); }
    else if (all) { e.preventDefault(); draw(await fetch("/office/review/right", { headers: { "x-part": "1" } }).then((r) => r.text())); }
  });
  // Words are corrected where they stand.
  document.addEventListener("toggle", (e) => {
    const box = e.target;
    if (box.matches?.("details.correct")) {
      const area = box.querySelector("[data-words-of]");
      if (area) {
        const words = box.closest("article").querySelector("[data-words]");
        words.contentEditable = String(box.open);
        area.closest("label").hidden = box.open;
        if (box.open) { words.setAttribute("role", "textbox"); words.setAttribute("aria-label", "What it is about"); words.focus(); }
      } else if (box.open) box.querySelector("input:not([type=hidden])")?.focus();
    } else if (box.matches?.("details.words") && box.open) {
      for (const other of article.querySelectorAll("details.words[open]")) if (other !== box) other.open = false;
      const area = box.querySelector("textarea");
      area.focus();
      area.setSelectionRange(area.value.length, area.value.length);
      box.scrollIntoView({ block: "nearest" });
    }
  }, true);
  const press = (selector) => { const button = article.querySelector(selector); if (button) button.click(); return !!button; };
  document.addEventListener("keydown", (e) => {
    if (e.isComposing) return;
    const inside = e.target.closest?.("input, textarea, select, [contenteditable=true], dialog");
    if (inside) {
      if (e.key === "Escape") { e.target.blur(); e.target.closest("details.words, details.correct")?.removeAttribute("open"); article.firstElementChild?.focus(); }
      else if (e.key === "Enter" && (e.ctrlKey || e.metaKey)) {
        const form = e.target.closest("form") ?? e.target.closest(".says")?.querySelector("form");
        if (form) { e.preventDefault(); form.requestSubmit(); }
      }
      return;
    }
    if (e.ctrlKey || e.altKey || e.metaKey) return;
    const words = (key) => { const box = article.querySelector(`[data-words-for="${key}"]`); if (!box) return false; box.open = true; return true; };
    const acts = {
      a: () => press("[data-act=accept] button"),
      b: () => words("b"), t: () => words("t"),
      s: () => press("[data-act=spam] button"),
      j: () => press("[data-act=join] button"),
      n: () => { show(following(open) || open); return true; },
      u: () => { undo(); return true; },
      c: () => { const next = [...article.querySelectorAll("details.correct")].find((d) => !d.open); if (!next) return false; next.open = true; next.scrollIntoView({ block: "nearest" }); return true; },
      o: () => press("[data-key-of=o]"), r: () => press("[data-key-of=r]"), x: () => press("[data-key-of=x]"),
      "?": () => { document.querySelector("#keys").showModal(); return true; },
      "/": () => { document.querySelector(".find input")?.focus(); return true; },
    };
    if (acts[e.key]?.()) e.preventDefault();
  });
  // Others see that somebody looks at it; and it is told when it was changed or decided meanwhile.
  const look = async () => {
    const shown = article.firstElementChild, id = shown?.dataset.id;
    if (!id || !shown.dataset.version || document.hidden) return;
    const answer = await post(`/office/review/${id}/look`, new FormData()).then((r) => r.ok ? r.json() : null).catch(() => null);
    if (!answer || article.firstElementChild !== shown) return;
    shown.querySelector(".others").textContent = answer.others.length ? `${answer.others.join(", ")} looks at it too` : "";
    if (!answer.waits && shown.querySelector(".decide")) plain("Somebody has decided on this one meanwhile. Choose it in the queue to see what, or skip it.", true);
    else if (answer.waits && String(answer.version) !== shown.dataset.version) plain("Its words were changed meanwhile. Choose it in the queue to read it again.", true);
  };
  setInterval(look, 15000);
  // On a telephone the one to decide on comes first.
  if (matchMedia("(max-width: 820px)").matches) root.querySelector(".queuelist").open = false;
  article.firstElementChild?.focus({ preventScroll: true });
  look();
  prepare();
})();
