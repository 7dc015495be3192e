// The door: scanner, camera, photo, names; the verdict, by the program or, without network, by
// what this device keeps; what waits to be sent, once each.
(() => {
  "use strict";
  const wrap = document.querySelector("#doorwrap");
  if (!wrap) return;
  const keep = window.doorKeep, $ = (id) => document.getElementById(id);
  const date = Number(wrap.dataset.date || location.pathname.split("/").pop());
  const door = () => $("door")?.value.trim() || "main door";
  let { token, static: files } = wrap.dataset;
  const text = $("text");

  // How things stand: with the network, with the roster, with what waits.
  let down = false, behind = Number(localStorage.getItem("door-behind") || 0), roster = null, seenHere = new Map(), waits = 0, gone = "", stale = true;
  const ago = (ms) => { const m = Math.round(ms / 60000); return m < 1 ? "just now" : m < 60 ? `${m} min ago` : `${Math.round(m / 60)} h ago`; };
  const houseNow = () => Date.now() + behind;
  const say = () => {
    const parts = [];
    if (gone) parts.push(gone);
    else parts.push(down ? "No network" : "In step with the other doors");
    if (down && !roster) parts.push("nothing is known here: no roster was taken along");
    else if (roster) parts.push(`list of ${keep.clock(roster.at, roster.zone)}, ${ago(houseNow() - roster.at)}${roster.cut ? ", not of everybody" : ""}`);
    else if (!keep?.can) parts.push("this page is not secure (https), so it works with the network only");
    if (waits) parts.push(waits === 1 ? "one scan waits to be sent" : `${waits} scans wait to be sent`);
    $("netsay").textContent = parts.join(" · ");
    $("net").classList.toggle("late", down || Boolean(gone));
    $("net").classList.toggle("waits", waits > 0);
  };
  // How many are inside, without network: what was heard last, and what this device did since.
  let heard = null, sinceThen = 0, walked = new Map();
  const insideNow = () => (heard ?? roster?.inside ?? 0) + sinceThen;
  const drawInside = () => {
    const shown = document.querySelector("#board h2 b");
    if (!down) { if (shown) heard = Number(shown.textContent); return; }
    if (!roster) return;
    if (shown) { shown.textContent = insideNow(); return; }
    const head = element("h2", "", "Inside ");
    head.append(element("b", "", String(insideNow())));
    $("board").replaceChildren(head, element("p", "limit", `${roster.most === null ? "" : `${roster.most} may be. `}By the list of ${keep.clock(roster.at, roster.zone)} and this device alone.`));
  };
  const flash = (words) => { $("flash").textContent = words; };
  const key = () => (crypto.randomUUID ? crypto.randomUUID() : Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, "0")).join(""));
  const others = "BroadcastChannel" in window ? new BroadcastChannel("door") : null;

  // The verdict. Whatever stood there is gone as soon as something new is shown.
  let turn = 0, past = 0;
  const stand = (cls, inner, attendee) => {
    const place = $("verdict");
    place.className = `verdict ${cls}`;
    place.dataset.verdict = cls;
    if (attendee) place.dataset.attendee = attendee; else delete place.dataset.attendee;
    place.replaceChildren(...inner);
    void place.offsetWidth;
    place.classList.add("fresh");
    clearTimeout(past);
    // A green that stands for long is taken for the next person's.
    if (cls === "in") past = setTimeout(() => place.classList.add("past"), 7000);
  };
  const element = (name, cls, words) => { const e = document.createElement(name); if (cls) e.className = cls; if (words) e.textContent = words; return e; };
  const shape = (cls) => document.querySelector(`[data-shape="${cls}"]`)?.content.cloneNode(true) ?? element("span");
  const put = (v, extra = []) => {
    const body = element("div"), what = element("p", "what");
    body.append(element("p", "word", v.word));
    if (v.settled === false) body.append(element("p", "unsettled", "not settled: nobody else has been asked"));
    if (v.name) body.append(element("p", "who", v.name));
    if (v.reason) what.append(element("b", "", v.reason));
    if (v.ticket) what.append(element("span", "", v.ticket));
    if (v.with?.length) what.append(element("span", "", `${v.with.map((r) => r[3]).join(", ")}, in as well`));
    if (v.companions?.length) what.append(element("span", "", `${v.companions.join(", ")} not here yet`));
    if (what.childNodes.length) body.append(what);
    const inner = [shape(v.class), body];
    if (v.note) { const note = element("p", "doornote"); note.append(element("span", "", v.note)); inner.push(note); }
    inner.push(...extra);
    inner.push(element("p", "ago", v.at ? new Intl.DateTimeFormat("en-GB", { timeStyle: "medium", timeZone: roster?.zone }).format(v.at) : ""));
    stand(v.class, inner, v.attendee);
  };
  const checking = () => put({ class: "wait", word: "Checking …", reason: "", name: "" });

  // An answer of the program: a verdict, and a row for the log.
  const shown = (html) => {
    const answer = document.createElement("template");
    answer.innerHTML = html;
    const verdict = answer.content.querySelector("#verdict");
    const row = answer.content.querySelector("template")?.content.firstElementChild;
    if (!verdict || !row) return null;
    const { verdict: cls, attendee } = verdict.dataset;
    stand(cls, [...verdict.childNodes], attendee);
    // Change worked out from what was given.
    const due = $("verdict").querySelector("[data-pay] [name=due]");
    if (due) due.form.after(change(Number(due.value)));
    logged(row);
    feel(cls);
    return { class: cls, attendee: Number(attendee || 0), undone: row.classList.contains("undone") };
  };
  const logged = (row) => {
    $("nolog")?.remove();
    const old = row.id && $(row.id);
    if (old) old.replaceWith(row); else $("log").prepend(row);
    while ($("log").children.length > 12) $("log").lastElementChild.remove();
    const last = document.querySelector("#log [data-undo], #log [data-undo-kept]");
    const undo = $("undolast");
    undo.elements.scan.value = last?.elements?.scan?.value ?? "";
    undo.dataset.kept = last?.dataset.undoKept ?? "";
    undo.querySelector("button").disabled = !last;
  };
  const keptRow = (id, item, v) => {
    const row = element("li", `${v.class} kept`);
    row.id = `kept-${id}`;
    row.append(element("time", "", new Intl.DateTimeFormat("en-GB", { timeStyle: "medium", timeZone: roster?.zone }).format(item.at + behind)), element("b", "", v.name || "–"), element("span", "", `${v.word.toLowerCase()}${v.reason ? `: ${v.reason}` : ""}, not settled`), element("small", "", item.door));
    if (v.admits) {
      const form = element("form"), button = element("button", "", "Undo");
      form.dataset.undoKept = id;
      button.setAttribute("aria-label", `Undo ${v.name}`);
      form.append(button);
      row.append(form);
    }
    return row;
  };

  // Asking the program, for so long as nobody waits in vain.
  const ask = async (path, body, ms) => {
    const limit = new AbortController();
    const timer = setTimeout(() => limit.abort(), ms);
    try {
      const answer = await fetch(path, { method: "POST", body: new URLSearchParams(body), headers: { "x-form-token": token, "HX-Request": "true" }, signal: limit.signal });
      return { status: answer.status, signedOut: answer.redirected, words: await answer.text() };
    } finally { clearTimeout(timer); }
  };
  const sendable = ({ key, at, text, attendee, by, out }) => ({ key, at, ...(out ? { out: "yes" } : {}), ...(attendee ? { attendee } : { text, by: by ?? "scanner" }) });
  const stripped = (html) => { const part = document.createElement("template"); part.innerHTML = html; return part.content.textContent.trim(); };

  // What was shown is written down first, then asked about, then judged here if no answer comes.
  const memory = [];
  const kept = async (item) => { if (!keep?.can) { memory.push(item); return -memory.length; } return keep.queue.add(item); };
  const amend = async (id, item) => { if (id < 0) memory[-id - 1] = item; else await keep.queue.put(id, item); };
  const drop = async (id) => { if (id < 0) memory[-id - 1] = null; else await keep.queue.remove(id); };
  const waiting = async () => (keep?.can ? keep.queue.all() : memory.map((item, n) => [-n - 1, item]).filter(([, item]) => item));
  const count = async () => {
    const all = (await waiting()).filter(([, item]) => item.did);
    waits = all.length;
    // What this device did by itself since it last heard how many are inside.
    sinceThen = 0; walked = new Map();
    for (const [, item] of all) {
      if (item.date !== date || item.undone) continue;
      if (item.kind === "walk") { sinceThen += item.quantity; walked.set(item.ticket, (walked.get(item.ticket) ?? 0) + item.quantity); }
      else if (item.kind === "undo") sinceThen -= item.was === "in" ? 1 : 0;
      else if (item.did === "let in" && !item.room) sinceThen += 1;
      else if (item.did === "let out" && !item.room) sinceThen -= 1;
    }
    say();
    drawInside();
  };
  const note = async (who, what) => {
    seenHere.set(who, what);
    if (keep?.can) await keep.seen.put(date, who, what);
    others?.postMessage({ seen: [date, who, what] });
  };
  const remember = async (attendee, way, at, fresh) => {
    if (!attendee) return;
    const session = keep?.sessionAt(roster, door(), at), what = { way, at, door: door(), fresh };
    if (session) await note(keep.inSession(session, attendee), { ...what, room: true });
    // Whoever goes into a room is at the date; whoever goes out of it still is.
    if (!session) await note(attendee, what);
    else if (way === "in" && seenHere.get(attendee)?.way !== "in") await note(attendee, { ...what, fresh: fresh && roster.verdicts[roster.byAttendee.get(attendee)?.[7]]?.[0] !== "dup" });
  };
  const unsee = async (who) => {
    seenHere.delete(who);
    if (keep?.can) await keep.seen.remove(date, who);
    others?.postMessage({ seen: [date, who, null] });
  };
  // Of somebody, at the door of the date and at those of rooms: what `gone` says.
  const forget = async (attendee, gone = () => true) => {
    for (const [who, what] of [...seenHere]) if ((who === attendee || String(who).endsWith(`:${attendee}`)) && gone(what)) await unsee(who);
  };

  let line = Promise.resolve();
  const scan = (what) => {
    const mine = ++turn;
    checking();
    const item = { date, kind: "scan", key: key(), at: Date.now(), door: door(), ...($("out")?.checked ? { out: true } : {}), ...what };
    // One after the other, in the order in which they were shown.
    line = line.then(() => one(item, mine)).catch((error) => { console.error(error); flash("This scan could not be kept on this device. Scan it again, or type the name."); });
    return line;
  };
  const one = async (item, mine) => {
    const id = await kept(item);
    if (!down) {
      try {
        const answer = await ask(`/door/${date}/scan`, sendable(item), roster ? 2500 : 8000);
        if (answer.status < 500 && !answer.signedOut) {
          await drop(id);
          if (answer.status >= 400) { refused(answer.words, mine); return; }
          if (mine === turn || !document.querySelector("#verdict.wait")) flash("");
          const told = shown(answer.words);
          if (!told) { refused(answer.words, mine); return; }
          if (told.class === "in") await remember(told.attendee, "in", item.at + behind, false);
          if (told.class === "out") await remember(told.attendee, "out", item.at + behind, false);
          giving(told.class === "no" && item.text && (!keep || keep.read(item.text).not) ? item.text.trim() : "");
          return;
        }
        if (answer.signedOut) gone = "Sign in again: this page is from before";
      } catch { /* no answer: judged here */ }
      unreachable();
    }
    await byItself(id, item);
  };
  const refused = (words, mine) => {
    const said = stripped(words) || "That did not work; try again.";
    flash(said);
    if (mine === turn) put({ class: "no", word: "Not checked", reason: said });
    feel("no");
  };
  const byItself = async (id, item) => {
    if (!roster) {
      await amend(id, { ...item, did: "ask" });
      put({ class: "mis", word: "No answer", reason: "Not checked: there is no network, and no list on this device.", ticket: "The scan is kept, and asked about when the network is back." });
      feel("mis");
    } else {
      const v = { ...await keep.judge(roster, seenHere, item, item.at + behind), settled: false, at: item.at + behind };
      const did = v.class === "out" ? "let out" : v.admits ? "let in" : "sent away";
      const done = { ...item, did, name: v.name, attendeeSeen: v.attendee, said: v.word.toLowerCase(), shape: v.class, ...(keep.sessionAt(roster, item.door, item.at + behind) ? { room: true } : {}) };
      await amend(id, done);
      if (v.admits) await remember(v.attendee, v.class === "out" ? "out" : "in", item.at + behind, true);
      // With the ticket of a family all of it comes in.
      for (const row of v.with ?? []) {
        await kept({ date, kind: "scan", key: `${item.key}+${row[1]}`, at: item.at, door: item.door, attendee: row[1], did, name: row[3], attendeeSeen: row[1] });
        await remember(row[1], "in", item.at + behind, true);
      }
      put(v, v.cash && roster.money ? [cashForm(v)] : []);
      logged(keptRow(id, done, v));
      feel(v.class);
    }
    await count();
  };
  // Cash without network: the receipt's number is of this device's own block.
  const nextReceipt = () => {
    const n = Number(localStorage.getItem("door-receipts") || 0) + 1;
    localStorage.setItem("door-receipts", n);
    return `${roster.receipts}-${String(n).padStart(3, "0")}`;
  };
  const cashForm = (v) => {
    const box = element("div", "paynow"), form = element("form"), button = element("button", "", `${v.due} taken in cash`);
    form.append(button);
    form.addEventListener("submit", async (e) => {
      e.preventDefault();
      e.stopPropagation();
      button.disabled = true;
      const receipt = nextReceipt();
      const item = { date, kind: "scan", key: key(), at: Date.now(), door: door(), attendee: v.attendee, did: "let in", name: v.name, cash: v.cash, receipt, attendeeSeen: v.attendee, said: "come in", shape: "in", why: `${v.due} taken, receipt ${receipt}` };
      const id = await kept(item);
      await remember(v.attendee, "in", item.at + behind, true);
      const told = { class: "in", word: "Come in", reason: `${v.due} taken, receipt ${receipt}`, name: v.name, ticket: v.ticket, attendee: v.attendee, admits: true, settled: false, at: item.at + behind };
      put(told);
      logged(keptRow(id, item, told));
      feel("in");
      await count();
    });
    box.append(form, change(v.cash));
    return box;
  };
  // Change worked out from what was given.
  const change = (due) => {
    const label = element("label", "change", "Given "), given = element("input"), out = element("output");
    given.inputMode = "decimal";
    given.className = "given";
    given.autocomplete = "off";
    given.addEventListener("input", () => {
      const minor = Math.round(Number(given.value.replace(",", ".")) * 100);
      out.textContent = !given.value || Number.isNaN(minor) ? "" : minor < due ? `${((due - minor) / 100).toFixed(2)} more` : `${((minor - due) / 100).toFixed(2)} back`;
    });
    label.append(given, out);
    return label;
  };

  // Undo: of what waits here, here; of what the program has, there.
  const undoKept = async (id) => {
    const found = (await waiting()).find(([known]) => known === id);
    if (!found) { flash("This scan has been sent meanwhile. It is undone in the list below once it stands there."); return; }
    const [, item] = found;
    await amend(id, { ...item, did: "sent away", cash: 0, undone: true, back: item.cash, ...(item.kind === "walk" ? { kind: "scan", text: "", attendee: 0 } : {}) });
    if (item.attendeeSeen) await forget(item.attendeeSeen, ({ at }) => Math.abs(at - item.at - behind) < 5000);
    put({ class: "ready", word: "Undone", name: item.name, reason: item.cash ? "expected again; give the money back" : "expected again", settled: false });
    const row = $(`kept-${id}`);
    row?.classList.add("undone");
    row?.querySelector("form")?.remove();
    feel("ready");
    const last = document.querySelector("#log [data-undo], #log [data-undo-kept]");
    $("undolast").elements.scan.value = last?.elements?.scan?.value ?? "";
    $("undolast").dataset.kept = last?.dataset.undoKept ?? "";
    $("undolast").querySelector("button").disabled = !last;
    await count();
  };

  // What the program has already is undone there, when the network is back.
  const undoLater = async (scan, row) => {
    const attendee = Number(row?.dataset.attendee || 0), name = row?.querySelector("b")?.textContent ?? "";
    await kept({ date, kind: "undo", key: key(), at: Date.now(), door: door(), did: "undo", scan, name, was: row?.classList.contains("in") ? "in" : "", attendeeSeen: attendee });
    if (attendee) await remember(attendee, "undone", houseNow(), true);
    row?.classList.add("undone");
    row?.querySelector("form")?.remove();
    put({ class: "ready", word: "Undone", name, reason: "told to the other doors when the network is back", settled: false });
    feel("ready");
    await count();
  };

  // Sending what waits: one by one, in order, from one tab at a time, each until it is answered.
  let flushing = false;
  const flush = async () => {
    if (flushing) return;
    flushing = true;
    try {
      const send = async () => {
        for (const [id, item] of await waiting()) if (!await sent(id, item)) return;
      };
      if (navigator.locks && keep?.can) await navigator.locks.request("door-queue", { ifAvailable: true }, (lock) => (lock ? send() : null));
      else await send();
    } finally {
      flushing = false;
      await count();
    }
  };
  const sent = async (id, item) => {
    // Still being asked about by this page or another.
    if (!item.did && Date.now() - item.at < 15000) return true;
    const when = keep?.can ? keep.clock(item.at + behind, roster?.zone) : "";
    const of = item.name || "A scan";
    const asks = !item.did || item.did === "ask";
    let answer;
    try {
      answer = item.kind === "undo"
        ? await ask(`/door/${item.date}/undo`, { scan: item.scan }, 10000)
        : asks ? await ask(`/door/${item.date}/scan`, sendable(item), 10000)
          : item.kind === "walk" ? await ask(`/door/${item.date}/walked-in`, { key: item.key, at: item.at, behind: Math.round(behind), door: item.door, did: "let in", ticket: item.ticket, quantity: item.quantity, name: item.typed || "", ...(item.cash ? { cash: item.cash, receipt: item.receipt } : {}) }, 10000)
          : await ask(`/door/${item.date}/settle`, { key: item.key, at: item.at, behind: Math.round(behind), door: item.door, did: item.did, ...(item.attendee ? { attendee: item.attendee } : { text: item.text }), ...(item.cash ? { cash: item.cash, receipt: item.receipt } : {}), ...(item.said ? { said: item.said } : {}), ...(item.undone ? { undone: "yes", back: item.back || 0, receipt: item.receipt || "" } : {}) }, 10000);
    } catch { unreachable(); return false; }
    if (answer.signedOut || answer.status === 401) { gone = "Sign in again, so that what waits can be sent"; say(); return false; }
    if (answer.status >= 500 || answer.status === 429 || answer.status === 408) return false;
    // A form of before: the next beat brings the token of now.
    if (answer.status === 403 && !item.refusedOnce) { await amend(id, { ...item, refusedOnce: true }); return false; }
    if (answer.status >= 400 && item.kind !== "undo") await toRead(`${of}, ${when}: could not be settled. ${stripped(answer.words)}`);
    else if (asks) {
      const part = document.createElement("template");
      part.innerHTML = answer.words;
      const row = part.content.querySelector("template")?.content.firstElementChild;
      await toRead(`Scanned at ${when} without network: ${row?.querySelector("b")?.textContent ?? "somebody"}: ${row?.querySelector("span")?.textContent ?? "not a ticket"}`);
      if (row) logged(row);
    } else if (item.kind !== "undo") {
      const { line, name } = JSON.parse(answer.words);
      if (line) await toRead(`${name || of}, ${when}: ${line}`);
    }
    if (item.kind === "undo" && item.attendeeSeen) await forget(item.attendeeSeen, ({ way }) => way === "undone");
    await drop(id);
    const row = $(`kept-${id}`);
    if (row) { row.classList.add("sent"); row.querySelector("form")?.remove(); const span = row.querySelector("span"); span.textContent = span.textContent.replace(/, not settled$/, ", settled"); }
    return true;
  };
  // What came of it is read by somebody, one by one.
  const toRead = async (words) => { if (keep?.can) await keep.tray.add(words); else memoryTray.push(words); await drawTray(); };
  const memoryTray = [];
  const drawTray = async () => {
    const all = keep?.can ? await keep.tray.all() : memoryTray.map((words, n) => [-n - 1, words]);
    const list = all.filter(([, words]) => words).map(([id, words]) => {
      const row = element("li"), button = element("button", "", "Read");
      button.type = "button";
      button.addEventListener("click", async () => { if (id < 0) memoryTray[-id - 1] = ""; else await keep.tray.remove(id); await drawTray(); (document.querySelector("#tray button") ?? text).focus(); });
      row.append(element("span", "", words), button);
      return row;
    });
    $("tray").replaceChildren(...list);
    $("traybox").hidden = list.length === 0;
  };

  // The beat: whether the program answers, what time it is there, whether this device may go on.
  let beating = 0, fails = 0;
  const unreachable = () => { if (!down) { drawInside(); down = true; say(); localWalk(); } again(2500); };
  const again = (ms) => { clearTimeout(beating); beating = setTimeout(beat, ms); };
  const beat = async () => {
    if (document.hidden) { again(20000); return; }
    const limit = new AbortController(), timer = setTimeout(() => limit.abort(), 4000), began = Date.now();
    try {
      const answer = await fetch(`/door/beat?date=${date || 0}&to_send=${waits}&behind=${Math.round(behind)}`, { signal: limit.signal, cache: "no-store" });
      if (!answer.ok) throw new Error(String(answer.status));
      const told = await answer.json();
      behind = told.now - (began + Date.now()) / 2;
      localStorage.setItem("door-behind", Math.round(behind));
      token = told.token;
      const was = down;
      down = false;
      if (was && wrap.dataset.date) walkPart();
      fails = 0;
      if (!told.stands) { await over(told.why); return; }
      gone = "";
      await flush();
      // A page that was loaded without network has nobody on it: with the network it is loaded whole.
      if (!wrap.dataset.date && date && !text.value && (await waiting()).length === 0) { location.reload(); return; }
      if (stale || (roster && houseNow() - roster.at > 120000)) await takeAlong();
      again(20000);
    } catch {
      if (!down) { drawInside(); down = true; localWalk(); }
      fails += 1;
      again(fails > 20 ? 8000 : 2500);
    } finally { clearTimeout(timer); say(); }
  };
  // Sent away, or over: what waits is handed in, all else is wiped.
  const over = async (why) => {
    gone = why;
    await flush();
    roster = null;
    seenHere = new Map();
    const left = (await waiting()).length;
    const away = /sent away|over/.test(why);
    await keep?.wipe(away && left === 0);
    if (away) {
      $("names").replaceChildren();
      $("log").replaceChildren();
      if (left === 0) fetch("/door/beat?wiped=1").catch(() => {});
      put({ class: "no", word: "Over", reason: why, ticket: left ? `${left} scans still wait to be sent; leave this page open.` : "It keeps nothing any more. Give it back, or let it join again." });
    }
    say();
    again(left ? 5000 : 60000);
  };
  const takeAlong = async () => {
    if (!keep?.can || !date || down) return;
    try {
      const began = houseNow();
      const limit = new AbortController(), timer = setTimeout(() => limit.abort(), 20000);
      const answer = await fetch(`/door/${date}/roster`, { signal: limit.signal, headers: { "HX-Request": "true" } });
      clearTimeout(timer);
      if (!answer.ok || answer.redirected) return;
      const fresh = await answer.json();
      await keep.rosters.put(date, fresh);
      roster = await keep.ready(fresh);
      stale = false;
      // What this device saw before is in it, once it was sent.
      const unsent = new Set((await waiting()).map(([, item]) => item.attendeeSeen));
      for (const [attendee, what] of [...seenHere]) if (!unsent.has(Number(String(attendee).split(":").pop())) && what.at < began - 5000) await unsee(attendee);
      wrap.dataset.roster = String(fresh.people.length);
    } catch { /* as before */ }
    say();
  };
  window.addEventListener("online", beat);
  document.addEventListener("visibilitychange", () => { if (!document.hidden) beat(); });
  document.addEventListener("live", ({ detail }) => { if (detail.up) stale = true; if (detail.up === down) beat(); });
  if (others) others.onmessage = ({ data }) => {
    const [of, attendee, what] = data.seen ?? [];
    if (of === date) { if (what) seenHere.set(attendee, what); else seenHere.delete(attendee); }
    count();
  };
  window.addEventListener("beforeunload", (e) => { if (!keep?.can && memory.some(Boolean)) e.preventDefault(); });

  // Forms of this page go the same way.
  const payButtons = (off) => { for (const button of document.querySelectorAll("[data-pay] button")) button.disabled = off; };
  const act = async (path, body) => {
    if (down) { payButtons(false); flash("There is no network: this can be done when it is back."); feel("no"); return; }
    // A refusal leaves what stood there, with everything typed.
    const place = $("verdict"), stood = [place.className, place.dataset.verdict, [...place.childNodes]];
    checking();
    try {
      const answer = await ask(path, body, 10000);
      if (answer.signedOut) { location.reload(); return; }
      flash("");
      const told = answer.status < 400 ? shown(answer.words) : null;
      if (!told) {
        place.className = stood[0].replace(" fresh", "");
        place.dataset.verdict = stood[1];
        place.replaceChildren(...stood[2]);
        payButtons(false);
        flash(stripped(answer.words) || "That did not work; try again.");
        feel("no");
        return;
      }
      if (told.class === "in") await remember(told.attendee, "in", houseNow(), false);
      else if (told.undone && told.attendee) await forget(told.attendee);
    } catch {
      unreachable();
      put({ class: "mis", word: "No answer", reason: "It is not known whether this was done. Scan the ticket again to see." });
      feel("mis");
    }
  };
  document.addEventListener("submit", (e) => {
    const form = e.target;
    if (form.dataset.undoKept || (form.id === "undolast" && form.dataset.kept)) {
      e.preventDefault();
      undoKept(Number(form.dataset.undoKept || form.dataset.kept));
    } else if (form.matches("[data-undo]")) {
      e.preventDefault();
      const scan = form.elements.scan.value, row = $(`scan-${scan}`);
      if (scan && down) undoLater(scan, row);
      else if (scan) act(`/door/${date}/undo`, { scan });
    } else if (form.matches("[data-pay]")) {
      e.preventDefault();
      const body = Object.fromEntries(new FormData(form));
      if (e.submitter?.name) body[e.submitter.name] = e.submitter.value;
      payButtons(true);
      act(form.getAttribute("action"), body);
    } else if (form.matches("[data-till]")) {
      e.preventDefault();
      ask(form.getAttribute("action"), { attendee: form.elements.attendee.value }, 10000).then(({ status, words }) => {
        if (status >= 400) { flash(stripped(words)); return; }
        const part = document.createElement("template");
        part.innerHTML = words;
        form.replaceWith(part.content);
      }).catch(unreachable);
    } else if (form.matches("[data-walk]")) {
      e.preventDefault();
      const body = Object.fromEntries(new FormData(form));
      if (e.submitter?.name) body[e.submitter.name] = e.submitter.value;
      act(form.getAttribute("action"), { ...body, at: Date.now() }).then(walkPart);
    } else if (form.matches("[data-give]")) {
      e.preventDefault();
      ask(`/door/${date}/give`, { attendee: form.elements.attendee.value, code: foreign }, 8000).then(({ status, words }) => { flash(stripped(words)); if (status < 400) { giving(""); clear(); feel("ready"); } }).catch(unreachable);
    } else if (form.matches("[data-admit]")) {
      e.preventDefault();
      scan({ attendee: Number(form.elements.attendee.value) });
      clear();
    } else if (form.id === "scanform") {
      e.preventDefault();
      const typed = text.value.trim();
      if (!typed) return;
      const only = document.querySelectorAll("#names [data-admit]");
      if (looksLikeCode(typed)) { scan({ text: typed, by: "typed" }); clear(); }
      else if (only.length === 1) only[0].requestSubmit();
      else only[0]?.querySelector("button").focus();
    }
  });
  // A badge goes straight to the printer's dialog; where that cannot be, it opens beside.
  document.addEventListener("click", (e) => {
    const link = e.target.closest(".badgelink a");
    if (!link || matchMedia("(pointer: coarse)").matches) return;
    e.preventDefault();
    document.getElementById("badge")?.remove();
    const frame = element("iframe");
    frame.id = "badge";
    frame.hidden = true;
    frame.src = link.href;
    frame.addEventListener("load", () => { try { frame.contentWindow.focus(); frame.contentWindow.print(); } catch { window.open(link.href, "_blank"); } });
    document.body.append(frame);
  });
  // Those without a ticket: as things stand now.
  const walkPart = async () => {
    const open = $("walk")?.open;
    try {
      const answer = await fetch(`/door/${date}/walk-in`, { headers: { "HX-Request": "true" } });
      if (!answer.ok || answer.redirected) return;
      $("walkpart").innerHTML = await answer.text();
      $("walk").open = Boolean(open);
    } catch { unreachable(); }
  };
  $("walkpart").addEventListener("click", (e) => { if (e.target.closest("summary") && !$("walk").open && date && !down) setTimeout(walkPart, 0); });
  // Without network the tickets that the list knows are sold for cash, out of a block of receipts of
  // this device's own, as far as the list says there are seats.
  const localWalk = () => {
    if (!down || !roster?.sold) return;
    const sold = roster.sold.filter(([, , minor]) => minor === 0 || roster.money);
    const box = element("details", "walk"), form = element("form"), pick = element("fieldset"), more = element("p", "walkmore"), go = element("button", "go", "In");
    box.id = "walk";
    box.open = Boolean($("walk")?.open);
    box.append(element("summary", "", "Without a ticket"));
    pick.append(element("legend", "", "Which ticket"));
    for (const [id, name, minor, price, left] of sold) {
      const free = left - (walked.get(id) ?? 0), label = element("label", `wpick${free > 0 ? "" : " none"}`), radio = element("input");
      radio.type = "radio"; radio.name = "ticket"; radio.value = id; radio.required = true; radio.disabled = free <= 0;
      label.append(radio, " ", element("b", "", name), " ", element("span", "", price), " ", element("small", "", free > 0 ? `${free} left` : "none left"));
      pick.append(label);
    }
    const many = element("label", "", "How many "), quantity = element("input"), who = element("label", "", " Name, if wanted "), typed = element("input");
    quantity.name = "quantity"; quantity.inputMode = "numeric"; quantity.value = "1"; quantity.size = 2;
    typed.name = "typed"; typed.maxLength = 200; typed.autocomplete = "off";
    many.append(quantity); who.append(typed); more.append(many, who);
    form.dataset.localWalk = "";
    form.append(...(sold.length ? [pick, more, go] : [element("p", "", "Nothing is sold here without network.")]));
    box.append(form, element("p", "walksays", "Without network: cash only, and the waiting list is not known."));
    $("walkpart").replaceChildren(box);
  };
  const walkHere = async (form) => {
    const body = new FormData(form), [id, name, minor, , left] = roster.sold.find(([known]) => known === Number(body.get("ticket"))) ?? [];
    const quantity = Math.max(1, Math.min(20, Math.round(Number(body.get("quantity"))) || 1)), cash = minor * quantity;
    const refuse = (words) => { form.querySelector(".wrong")?.remove(); form.append(element("p", "wrong", words)); feel("no"); };
    if (id === undefined) { refuse("Choose which ticket they want."); return; }
    const free = left - (walked.get(id) ?? 0);
    if (quantity > free) { refuse(free > 0 ? `By the list of this device ${free} are left.` : "By the list of this device none is left."); return; }
    if (roster.most !== null && insideNow() + quantity > roster.most) { refuse(`${insideNow()} are inside, ${roster.most} may be.`); return; }
    const receipt = cash ? nextReceipt() : "", amount = cash ? (cash / 100).toFixed(2) : "";
    const called = String(body.get("typed")).trim() || (quantity === 1 ? "Walk-in" : `${quantity} walk-ins`);
    const why = cash ? `${amount} taken, receipt ${receipt}` : "";
    const item = { date, kind: "walk", key: key(), at: Date.now(), door: door(), did: "let in", ticket: id, quantity, typed: String(body.get("typed")).trim(), name: called, cash, receipt, said: "come in", shape: "in", why };
    const kid = await kept(item);
    const told = { class: "in", word: "Come in", reason: why, name: called, ticket: quantity > 1 ? `${quantity} × ${name}` : name, admits: true, settled: false, at: item.at + behind };
    put(told, cash ? [change(cash)] : []);
    logged(keptRow(kid, item, told));
    feel("in");
    await count();
    if ($("walk")) $("walk").open = false;
    localWalk();
  };
  document.addEventListener("submit", (e) => { if (e.target.matches("[data-local-walk]")) { e.preventDefault(); walkHere(e.target); } });
  // A wristband or a card of the house: whoever is found by name next can be given it.
  let foreign = "";
  const giving = (code) => { foreign = code; $("givecode").textContent = code; $("giving").hidden = !code; if (code) $("names").replaceChildren(); };
  $("nogive").addEventListener("click", () => giving(""));
  new MutationObserver(() => {
    if (!foreign) return;
    for (const form of $("names").querySelectorAll("[data-admit]:not([data-can-give])")) {
      form.dataset.canGive = "yes";
      const give = element("form"), id = element("input"), button = element("button", "go", "Give");
      give.dataset.give = "";
      id.type = "hidden"; id.name = "attendee"; id.value = form.elements.attendee.value;
      button.setAttribute("aria-label", `Give it to ${form.closest("li").querySelector("b").textContent}`);
      give.append(id, button);
      form.after(give);
    }
  }).observe($("names"), { childList: true, subtree: true });
  const plainCode = (typed) => /^[bcdfghjklnprstvx0-9]{10,14}$/i.test(typed.replace(/[\s\-]/g, ""));
  const looksLikeCode = (typed) => plainCode(typed) || (keep && Boolean(keep.read(typed).code));
  // While something is typed the last verdict makes way: what is found stands right below the field.
  const typing = () => document.getElementById("doorwrap").classList.toggle("typing", text.value.trim() !== "");
  text.addEventListener("input", typing);
  const clear = () => { text.value = ""; typing(); $("names").replaceChildren(); if (!matchMedia("(pointer: coarse)").matches) text.focus(); };
  // Names without network: of the list that was taken along.
  const localNames = () => {
    if (!roster) return;
    const typed = text.value.trim();
    const list = element("ul", "names");
    for (const row of typed ? keep.names(roster, typed) : []) {
      const item = element("li", roster.verdicts[row[7]][0]), who = element("span"), form = element("form"), button = element("button", "go", "Check"), hidden = element("input");
      who.append(element("b", "", row[3]), element("small", "", roster.tickets[row[4]]));
      hidden.type = "hidden"; hidden.name = "attendee"; hidden.value = row[1];
      button.setAttribute("aria-label", `Check ${row[3]}`);
      form.dataset.admit = "";
      form.append(hidden, button);
      item.append(who, form);
      list.append(item);
    }
    $("names").replaceChildren(...(list.childNodes.length ? [list] : typed ? [element("p", "empty", `No name “${typed}” on the list of ${keep.clock(roster.at, roster.zone)}.`)] : []));
  };
  let looking = 0;
  text.addEventListener("input", () => { clearTimeout(looking); if (down) looking = setTimeout(localNames, 120); });
  document.addEventListener("htmx:error", (e) => { if (e.target === text || e.detail?.ctx?.sourceElement === text) { unreachable(); localNames(); } });

  // A scanner that types: keys in a burst, mostly with Enter or Tab behind it, wherever the focus
  // is. What reads like one of our codes counts at any pace (some scanners are slow, and so are
  // busy devices); anything else only at a pace that no finger keeps, and only if it is no name.
  // The keys themselves are read as well: a layout of another alphabet changes letters, not keys.
  let typed = "", keys = "", times = [], before = 0, began = null, silence = 0, swallow = 0;
  const afresh = () => { typed = keys = ""; times = []; };
  const code = () => (looksLikeCode(typed) ? typed : keys.length === typed.length && keep?.read(keys).code ? keys : "");
  // What comes at a scanner's pace behind what a hand has typed is a scan by itself.
  const withoutHand = () => {
    let from = typed.length - 1;
    while (from > 0 && times[from] - times[from - 1] < 50) from -= 1;
    if (from === 0 || typed.length - from < 8 || code()) return;
    if (began) began.value += typed.slice(0, from);
    typed = typed.slice(from); keys = keys.slice(from); times = times.slice(from);
  };
  const field = () => (/^(INPUT|TEXTAREA)$/.test(document.activeElement?.tagName ?? "") ? document.activeElement : null);
  const isScan = (quick) => {
    const read = code();
    if (read) return read;
    const name = /^[\p{L}\s.'’-]+$/u.test(typed), latin = /^[\p{Script=Latin}\p{N}\p{P}\p{S}\s]+$/u.test(typed);
    if (typed.length >= 8 && quick && (!name || (!latin && !/\s/.test(typed)))) return typed;
    return "";
  };
  const took = (read) => {
    const at = field();
    // A scan that lands in a field changes nothing there.
    if (at && began?.at === at) { at.value = began.value; at.dispatchEvent(new Event("input", { bubbles: true })); }
    afresh();
    swallow = performance.now() + 400;
    if (at === text) clear();
    scan({ text: read, by: "scanner" });
  };
  document.addEventListener("keydown", (e) => {
    if (e.isComposing || e.ctrlKey || e.metaKey || (e.altKey && e.key.length !== 1) || document.activeElement?.id === "code") return;
    // When the key was pressed, not when a busy page came round to it.
    const now = e.timeStamp;
    clearTimeout(silence);
    if (!typed || now - before > 300) { afresh(); const at = field(); began = at ? { at, value: at.value } : null; }
    before = now;
    const quick = () => (now - (times[0] ?? now)) / Math.max(1, typed.length) < 50;
    if (e.key.length === 1) {
      typed += e.key;
      times.push(now);
      keys += /^Key([A-Z])$/.exec(e.code)?.[1] ?? (/^(Digit|Numpad)\d$/.test(e.code) ? e.code.slice(-1) : " ");
      // No Enter comes behind it.
      if (typed.length >= 12 && quick()) silence = setTimeout(() => { withoutHand(); const read = [typed, keys].find((t) => keep?.read(t).code); if (read) took(read); }, 180);
    } else if (e.key === "Enter" || e.key === "Tab") {
      if (!typed && now < swallow) { e.preventDefault(); e.stopImmediatePropagation(); return; }
      withoutHand();
      const read = isScan(quick());
      if (!read) { afresh(); return; }
      e.preventDefault();
      e.stopImmediatePropagation();
      took(read);
    } else if (!["Shift", "CapsLock", "AltGraph", "Alt"].includes(e.key)) afresh();
  }, true);

  // Known by ear and by hand alone: rising for come in, twice the same for already in, low and
  // long for all that stops.
  let audio = null, loud = localStorage.getItem("door-sound") !== "off";
  const button = $("sound");
  const soundWord = () => { button.textContent = loud ? "Sound on" : "Sound off"; button.setAttribute("aria-pressed", String(loud)); };
  soundWord();
  button.addEventListener("click", () => { loud = !loud; localStorage.setItem("door-sound", loud ? "on" : "off"); soundWord(); if (loud) feel("in"); });
  const tone = (hertz, at, long, form) => {
    const o = audio.createOscillator(), g = audio.createGain(), t = audio.currentTime + at;
    o.type = form; o.frequency.value = hertz;
    g.gain.setValueAtTime(0.0001, t); g.gain.exponentialRampToValueAtTime(0.25, t + 0.01); g.gain.exponentialRampToValueAtTime(0.0001, t + long);
    o.connect(g).connect(audio.destination); o.start(t); o.stop(t + long);
  };
  const SHAKES = { in: [70], dup: [60, 90, 60], pay: [40, 60, 40, 60, 40], ready: [30] };
  const feel = (cls) => {
    wrap.dataset.felt = cls;
    try { navigator.vibrate?.(SHAKES[cls] ?? [400]); } catch { /* a device that lies still */ }
    if (!loud) return;
    try {
      audio ??= new AudioContext();
      if (cls === "in") { tone(660, 0, 0.12, "sine"); tone(990, 0.11, 0.2, "sine"); }
      else if (cls === "dup") { tone(440, 0, 0.12, "triangle"); tone(440, 0.18, 0.12, "triangle"); }
      else if (cls === "pay") { tone(330, 0, 0.1, "triangle"); tone(330, 0.13, 0.1, "triangle"); tone(330, 0.26, 0.1, "triangle"); }
      else if (cls === "ready") tone(520, 0, 0.08, "sine");
      else tone(196, 0, 0.4, "square");
    } catch { /* a device without sound */ }
  };

  // Camera and photo, read in a worker.
  let worker = null, stream = null, busy = false, lastText = "", lastSeen = 0, looks = 0, side = localStorage.getItem("door-camera") || "environment", awake = null;
  const camerasay = $("camerasay");
  const tell = (words) => { camerasay.textContent = words; camerasay.hidden = !words; };
  const reader = () => {
    if (worker) return worker;
    worker = new Worker(`${files}/door-worker.js`);
    worker.onmessage = ({ data }) => {
      busy = false;
      if (data.error) tell("The reader could not start. Use the scanner, or type the name.");
      if (data.photo) tell(data.text ? "" : "No code was found in this photo. Take it closer and with light, or type the name.");
      if (!data.text) return;
      const now = performance.now();
      // The same ticket still in view is not shown twice.
      if (!data.photo && data.text === lastText && now - lastSeen < 2500) { lastSeen = now; return; }
      lastText = data.text; lastSeen = now;
      tell("");
      scan({ text: data.text, by: "scanner" });
    };
    worker.onerror = () => { busy = false; tell("The reader could not start. Use the scanner, or type the name."); };
    return worker;
  };
  $("photo").addEventListener("change", (e) => {
    const [file] = e.target.files;
    if (file) { tell("Reading the photo …"); reader().postMessage({ image: file, photo: true }); }
    e.target.value = "";
  });
  const video = $("video"), canvas = document.createElement("canvas");
  // One look at the whole, one at the middle in full sharpness, one with more light: small, far
  // and dim codes are read as well.
  const frame = () => {
    if (!stream) return;
    if (!busy && video.videoWidth) {
      const kind = looks++ % 3, { videoWidth: w, videoHeight: h } = video;
      const part = kind === 1 ? 0.5 : 1, scale = Math.min(1, 960 / (w * part));
      canvas.width = w * part * scale; canvas.height = h * part * scale;
      const pen = canvas.getContext("2d", { willReadFrequently: true });
      pen.filter = kind === 2 ? "brightness(2.2) contrast(1.5)" : "none";
      pen.drawImage(video, w * (1 - part) / 2, h * (1 - part) / 2, w * part, h * part, 0, 0, canvas.width, canvas.height);
      const image = pen.getImageData(0, 0, canvas.width, canvas.height);
      busy = true;
      if (looks === 120) tell("No code yet. Hold the ticket flat, a hand's length away, with light on it.");
      reader().postMessage({ image, hard: looks % 4 === 0 }, [image.data.buffer]);
    }
    setTimeout(() => (video.requestVideoFrameCallback ? video.requestVideoFrameCallback(frame) : frame()), 60);
  };
  const stop = () => {
    stream?.getTracks().forEach((t) => t.stop());
    awake?.release().catch(() => {});
    stream = awake = null; video.srcObject = null;
    $("viewfinder").hidden = true;
    $("camera").setAttribute("aria-pressed", "false"); $("camera").textContent = "Camera";
  };
  const why = (error) => ({
    NotAllowedError: "The camera was not allowed. Allow it for this page in the browser, or take a photo, or type the name.",
    NotFoundError: "This device has no camera. Use a scanner, or type the name.",
    NotReadableError: "Another program is using the camera. Close it and try again.",
  }[error?.name] ?? "The camera did not start. Try again, take a photo, or type the name.");
  const start = async () => {
    tell("");
    looks = 0;
    try {
      reader();
      stream = await navigator.mediaDevices.getUserMedia({ video: { facingMode: { ideal: side }, width: { ideal: 1920 } } });
      video.srcObject = stream;
      $("viewfinder").hidden = false;
      $("camera").setAttribute("aria-pressed", "true"); $("camera").textContent = "Camera off";
      const [track] = stream.getVideoTracks();
      $("torch").hidden = !track.getCapabilities?.().torch;
      $("torch").setAttribute("aria-pressed", "false");
      const cameras = (await navigator.mediaDevices.enumerateDevices()).filter((d) => d.kind === "videoinput");
      $("flip").hidden = cameras.length < 2;
      await video.play();
      awake = await navigator.wakeLock?.request("screen").catch(() => null);
      frame();
    } catch (error) { stop(); tell(why(error)); }
  };
  $("camera").addEventListener("click", async () => {
    if (stream) { stop(); return; }
    if (!window.isSecureContext || !navigator.mediaDevices) {
      tell("Browsers open the camera only on secure pages (https, or this very machine). Take a photo, use a scanner, or type the name.");
      return;
    }
    await start();
  });
  $("torch").addEventListener("click", async () => {
    const on = $("torch").getAttribute("aria-pressed") !== "true";
    try { await stream.getVideoTracks()[0].applyConstraints({ advanced: [{ torch: on }] }); $("torch").setAttribute("aria-pressed", String(on)); } catch { tell("The light did not come on."); }
  });
  $("flip").addEventListener("click", async () => { side = side === "user" ? "environment" : "user"; localStorage.setItem("door-camera", side); stop(); await start(); });
  document.addEventListener("visibilitychange", () => { if (document.hidden) stop(); });

  // Left hand or right: the buttons go where the thumb is.
  const hand = $("hand");
  const handed = () => { const left = localStorage.getItem("door-hand") === "left"; document.body.classList.toggle("lefthand", left); hand.textContent = left ? "Left hand" : "Right hand"; };
  hand.addEventListener("click", () => { localStorage.setItem("door-hand", localStorage.getItem("door-hand") === "left" ? "right" : "left"); handed(); });
  handed();

  // Begin with what the device keeps, then ask.
  (async () => {
    if (keep?.can) {
      try {
        await keep.rosters.sweep(houseNow());
        seenHere = await keep.seen.of(date);
        const known = await keep.rosters.get(date);
        if (known) { roster = await keep.ready(known); wrap.dataset.roster = String(known.people.length); }
      } catch (error) { console.error(error); }
      if (!wrap.dataset.date) {
        // The page without anybody on it: what it is about stands in the roster.
        down = true;
        $("doortitle").textContent = roster ? roster.title : "The door";
        $("doorwhen").textContent = roster ? `${roster.when} · ${roster.place}` : "Nothing was taken along for this door.";
        await listDates();
      }
      await drawTray();
      if ("serviceWorker" in navigator) navigator.serviceWorker.register("/door-keeper.js", { scope: "/door" }).then((r) => r.update()).catch(() => {});
      navigator.storage?.persist?.().catch(() => {});
    }
    // What waits here stands in the log, and can be undone.
    for (const [id, item] of await waiting()) {
      if (item.date !== date || !item.did || item.kind === "undo" || $(`kept-${id}`)) continue;
      const word = item.undone ? "Undone" : (item.said || item.did).replace(/^./, (c) => c.toUpperCase());
      logged(keptRow(id, item, { class: item.undone ? "ready" : item.shape || "ready", word, reason: item.why || "", name: item.name, admits: ["in", "out"].includes(item.shape) && !item.undone }));
    }
    await count();
    localWalk();
    await beat();
  })();
  const listDates = async () => {
    if (date) return;
    const list = element("ul", "doors");
    for (const of of await keep.rosters.dates()) {
      const known = await keep.rosters.get(of);
      const item = element("li"), link = element("a");
      link.href = `/door/${of}`;
      link.append(element("b", "", known.title), element("span", "", `${known.when} · ${known.place}`));
      item.append(link);
      list.append(item);
    }
    $("names").replaceChildren(list);
  };
})();
