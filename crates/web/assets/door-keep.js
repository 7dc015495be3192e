// What a device at a door keeps, so that it goes on without network: the roster, what it saw
// itself, what waits to be sent. Names and codes lie encrypted (AES-GCM, NIST SP 800-38D) under
// keys that the browser gives to no script and that go with the sign-out.
window.doorKeep = (() => {
  "use strict";
  const can = Boolean(window.isSecureContext && window.indexedDB && window.crypto?.subtle);
  const settled = (request) => new Promise((yes, no) => {
    request.onsuccess = () => yes(request.result);
    request.onerror = () => no(request.error);
  });
  let opened = null;
  const base = () => {
    opened ??= new Promise((yes, no) => {
      const asked = indexedDB.open("door", 1);
      asked.onupgradeneeded = () => {
        for (const store of ["keys", "rosters", "seen"]) asked.result.createObjectStore(store);
        for (const store of ["queue", "tray"]) asked.result.createObjectStore(store, { autoIncrement: true });
      };
      asked.onsuccess = () => {
        // Another tab wipes: it is not held up, and this one opens what is there afterwards.
        asked.result.onversionchange = () => { asked.result.close(); opened = null; };
        yes(asked.result);
      };
      asked.onerror = () => { opened = null; no(asked.error); };
    });
    return opened;
  };
  // One act on a store; done when it is on the disk.
  const on = async (store, act, mode = "readwrite") => {
    const turn = (await base()).transaction(store, mode, { durability: "strict" });
    const over = new Promise((yes, no) => { turn.oncomplete = yes; turn.onabort = () => no(turn.error); });
    const result = await settled(act(turn.objectStore(store)));
    await over;
    return result;
  };
  const all = async (store) => {
    const turn = (await base()).transaction(store, "readonly");
    const [keys, values] = await Promise.all([settled(turn.objectStore(store).getAllKeys()), settled(turn.objectStore(store).getAll())]);
    return keys.map((key, n) => [key, values[n]]);
  };

  // Two keys: that of the roster goes with the sign-out, that of what waits to be sent when all
  // of it is sent.
  const key = async (name) => {
    const known = await on("keys", (s) => s.get(name), "readonly");
    if (known) return known;
    const made = await crypto.subtle.generateKey({ name: "AES-GCM", length: 256 }, false, ["encrypt", "decrypt"]);
    // Two tabs at once: the first one's stands.
    try { await on("keys", (s) => s.add(made, name)); return made; } catch { return on("keys", (s) => s.get(name), "readonly"); }
  };
  const seal = async (name, value) => {
    const iv = crypto.getRandomValues(new Uint8Array(12));
    const data = await crypto.subtle.encrypt({ name: "AES-GCM", iv }, await key(name), new TextEncoder().encode(JSON.stringify(value)));
    return { iv, data };
  };
  const unseal = async (name, { iv, data }) =>
    JSON.parse(new TextDecoder().decode(await crypto.subtle.decrypt({ name: "AES-GCM", iv }, await key(name), data)));

  const queue = {
    add: async (item) => { const box = await seal("queue", item); return on("queue", (s) => s.add(box)); },
    put: async (id, item) => { const box = await seal("queue", item); return on("queue", (s) => s.put(box, id)); },
    remove: (id) => on("queue", (s) => s.delete(id)),
    all: async () => {
      const items = [];
      for (const [id, box] of await all("queue")) items.push([id, await unseal("queue", box)]);
      return items;
    },
  };
  // What is to be read by somebody, one by one: it stays until it was.
  const tray = {
    add: async (words) => { const box = await seal("queue", words); return on("tray", (s) => s.add(box)); },
    remove: (id) => on("tray", (s) => s.delete(id)),
    all: async () => {
      const items = [];
      for (const [id, box] of await all("tray")) items.push([id, await unseal("queue", box)]);
      return items;
    },
  };
  const seen = {
    put: (date, attendee, what) => on("seen", (s) => s.put(what, [date, attendee])),
    remove: (date, attendee) => on("seen", (s) => s.delete([date, attendee])),
    of: async (date) => new Map((await all("seen")).filter(([[on]]) => on === date).map(([[, attendee], what]) => [attendee, what])),
  };
  const rosters = {
    put: async (date, roster) => {
      const box = await seal("roster", roster);
      await on("rosters", (s) => s.put({ ...box, until: roster.until }, date));
    },
    // Gone the day after, whoever asks.
    sweep: async (now) => {
      for (const [date, { until }] of await all("rosters")) {
        if (until > now) continue;
        await on("rosters", (s) => s.delete(date));
        for (const [[of, attendee]] of await all("seen")) if (of === date) await seen.remove(of, attendee);
      }
    },
    get: async (date) => {
      const box = await on("rosters", (s) => s.get(date), "readonly");
      return box ? unseal("roster", box) : null;
    },
    dates: async () => (await all("rosters")).map(([date]) => date),
  };
  // Everything about people goes; what waits to be sent only where nobody will send it any more.
  const wipe = async (everything) => {
    if (!can) return;
    const stores = everything ? ["rosters", "seen", "keys", "queue", "tray"] : ["rosters", "seen"];
    if (!everything) await on("keys", (s) => s.delete("roster"));
    for (const store of stores) await on(store, (s) => s.clear());
  };

  // Reading codes as the program does: sixteen letters, two of them check letters (a Reed-Solomon
  // code over GF(16) with x^4 + x + 1).
  const LETTERS = "BCDFGHJKLNPRSTVX";
  const powers = [1];
  for (let n = 1; n < 15; n += 1) { const d = powers[n - 1] << 1; powers.push(d & 16 ? d ^ 0x13 : d); }
  const times = (a, b) => { let p = 0; while (b) { if (b & 1) p ^= a; a <<= 1; if (a & 16) a ^= 0x13; b >>= 1; } return p; };
  const sound = (letters) => {
    let plain = 0, weighted = 0;
    [...letters].forEach((c, n) => { const v = LETTERS.indexOf(c); plain ^= v; weighted ^= times(v, powers[n]); });
    return plain === 0 && weighted === 0;
  };
  const ours = (letters) => letters.length === 12 && [...letters].every((c) => LETTERS.includes(c));
  const read = (text) => {
    const letters = [...text].filter((c) => !/[\s\u2010-\u2015·_-]/u.test(c)).map((c) => (/[a-z]/.test(c) ? c.toUpperCase() : c));
    const whole = letters.join(""), behind = letters.slice(3).join("");
    if (ours(whole) && sound(whole)) return { code: whole };
    // A symbology identifier (ISO/IEC 15424) stands before it.
    if (letters.length === 15 && ours(behind) && sound(behind)) return { code: behind };
    if (letters.length > 15) return { not: true };
    const foreign = letters.filter((c) => !LETTERS.includes(c)).length;
    if (letters.length === 12 && foreign >= 1 && foreign <= 2) return { misread: true };
    if (Math.abs(letters.length - 12) <= 2 && foreign === 0) return { misread: true };
    return { not: true };
  };

  const bytes = (text) => Uint8Array.from(atob(text.replace(/-/g, "+").replace(/_/g, "/")), (c) => c.charCodeAt(0));
  // The first bits of a digest, as a number: at most 48 of them.
  const first = (buffer, bits) => Math.floor([...new Uint8Array(buffer).slice(0, 6)].reduce((all, byte) => all * 256 + byte, 0) / 2 ** (48 - bits));
  const fold = (text) => text.normalize("NFKD").replace(/\p{M}/gu, "").toLowerCase()
    .replace(/['\u2019\u02bc]/g, "").replace(/ß/g, "ss").replace(/ø/g, "o").replace(/ł/g, "l").replace(/æ/g, "ae")
    .replace(/[^\p{L}\p{N}@.]+/gu, " ").trim();

  // A roster made ready to be asked.
  const ready = async (roster) => {
    const hmac = await crypto.subtle.importKey("raw", bytes(roster.key), { name: "HMAC", hash: "SHA-256" }, false, ["sign"]);
    const digest = async (text) => first(await crypto.subtle.sign("HMAC", hmac, new TextEncoder().encode(text)), roster.bits);
    const byDigest = new Map(), byAttendee = new Map(), byBooking = new Map();
    for (const row of roster.people) {
      const [code, attendee, booking] = row;
      if (!byDigest.has(code)) byDigest.set(code, row);
      if (!attendee || byAttendee.has(attendee)) continue;
      byAttendee.set(attendee, row);
      if (!byBooking.has(booking)) byBooking.set(booking, []);
      byBooking.get(booking).push(row);
    }
    return { ...roster, digest, byDigest, byAttendee, byBooking, folded: null };
  };

  const clock = (ms, zone) => new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", hourCycle: "h23", timeZone: zone }).format(ms);
  const said = (cls, head, reason, more = {}) => ({ class: cls, word: head, reason, name: "", ticket: "", companions: [], note: "", attendee: 0, admits: false, ...more });

  // The session that a door is for at a time, if it is that of a room.
  const sessionAt = (roster, door, at) => roster?.rooms?.find((r) => r.door === door && r.opens <= at && at < r.until) ?? null;
  const inSession = (session, attendee) => `${session.session}:${attendee}`;

  // At the door of a room: core's verdict for those who signed up here, elsewhere or for nothing,
  // before and after seats are free, and whom this device let in itself.
  const inRoom = (roster, seenHere, row, who, session, out, at) => {
    const seen = (attendee) => seenHere.get(inSession(session, attendee)), before = (attendee) => session.inside.find(([id]) => id === attendee);
    const isIn = (attendee) => (seen(attendee) ? seen(attendee).way === "in" : Boolean(before(attendee)));
    const attendee = row[1], ticket = `${who.ticket} · ${session.label}`, told = { ...who, ticket, session: session.session };
    if (out) return isIn(attendee) ? said("out", "Out", "", { ...told, admits: true }) : said("mis", "Not in", "nobody saw them come in; let them in first if they did", told);
    if (isIn(attendee)) {
      const { at: since, door } = seen(attendee) ?? { at: before(attendee)[1], door: before(attendee)[2] };
      return said("dup", "Already in", `${clock(since, roster.zone)}, ${door}`, told);
    }
    const late = !session.sign_up || at >= session.free_from ? 1 : 0;
    const theirs = roster.sign_ups.filter(([id]) => id === attendee).map(([, id]) => id);
    const here = theirs.includes(session.session), elsewhere = session.elsewhere.find(([id]) => theirs.includes(id));
    const [cls, head, reason, admits] = roster.verdicts[(here ? session.here : elsewhere ? elsewhere[1] : session.nothing)[late]];
    if (!admits) return said(cls, head, reason, told);
    const ofBooking = roster.byBooking.get(row[2]) ?? [];
    const family = row[6] > 1 ? ofBooking.filter((r) => r[1] !== attendee && r[8] === row[8] && !isIn(r[1])) : [];
    if (session.seats !== null && !(here && !late)) {
      let more = 0;
      for (const [key, { way, fresh, room }] of seenHere) if (fresh && room && String(key).startsWith(`${session.session}:`)) more += way === "in" ? 1 : way === "out" ? -1 : 0;
      if (session.free[late] - more < 1 + family.length) {
        return late ? said("full", "Full", `${session.inside.length + more} are inside, ${session.seats} may be`, told)
          : said("first", "Sign-ups first", `seats of those who have not come are free from ${clock(session.free_from, roster.zone)}`, told);
      }
    }
    return said("in", "Come in", "", { ...told, with: family, admits: true });
  };

  // The verdict: what core worked out when the roster was taken, and what this device saw itself.
  // Nothing else.
  const judge = async (roster, seenHere, what, at) => {
    let row;
    const session = sessionAt(roster, what.door, at);
    if (what.attendee) row = roster.byAttendee.get(Number(what.attendee));
    else {
      const found = read(what.text);
      if (found.code) row = roster.byDigest.get(await roster.digest(found.code));
      else {
        row = roster.byDigest.get(await roster.digest(what.text.trim().toUpperCase()));
        if (!row && found.misread) return said("mis", "Misread", "a letter is wrong or missing; scan again");
        if (!row) return said("no", "Unknown", "not a ticket of this house");
      }
    }
    if (!row) return said("no", "Not on the list", `not on the list of ${clock(roster.at, roster.zone)}: no ticket for this date, or booked since`);
    const [, attendee, booking, name, ticket, place, people, stands, , note = "", cash = 0, due = ""] = row;
    const [cls, head, reason, admits] = roster.verdicts[stands];
    const who = { name, ticket: people > 1 ? `${roster.tickets[ticket]} · place ${place} of ${people}` : roster.tickets[ticket], note, attendee };
    const here = attendee ? seenHere.get(attendee) : null;
    const gone = here?.way === "out" && !roster.again;
    const toPay = () => said(cls, head, reason, { ...who, cash, due });
    if (session && attendee && !gone && (["in", "dup"].includes(cls) || (cls === "pay" && !what.out))) {
      const room = inRoom(roster, seenHere, row, who, session, what.out, at);
      return cls === "pay" && room.admits ? toPay() : room;
    }
    if (what.out && ["in", "dup", "pay", "gone", "way"].includes(cls)) {
      const inside = here ? here.way === "in" : cls === "dup";
      return inside ? said("out", "Out", "", { ...who, admits: true }) : said("mis", "Not in", "nobody saw them come in; let them in first if they did", who);
    }
    if (here && here.way === "in") return said("dup", "Already in", `${clock(here.at, roster.zone)}, ${here.door}`, who);
    // They were in when the roster was taken, and this device saw them out since; or they are out.
    const wasIn = cls === "dup", out = here && here.way === "out", undone = here && here.way === "undone";
    if (out && !roster.again) return said("gone", "Went out", "they went out, and nobody comes in again here", who);
    const lets = admits || (wasIn && (out || undone));
    // Money comes last: it is asked of nobody who would not come in once it is paid.
    if (!lets && cls !== "pay") return said(cls, head, reason, { ...who, cash, due });
    let inside = roster.inside;
    for (const { way, fresh, room } of seenHere.values()) if (fresh && !room) inside += way === "in" ? 1 : way === "out" ? -1 : 0;
    const expectedStill = (r) => r[1] !== attendee && !seenHere.has(r[1]) && ["in", "pay"].includes(roster.verdicts[r[7]][0]);
    const ofBooking = roster.byBooking.get(booking) ?? [];
    const family = people > 1 ? ofBooking.filter((r) => expectedStill(r) && r[8] === row[8]) : [];
    if (roster.most !== null && inside + 1 + family.length > roster.most) return said("full", "Full", `${inside} are inside, ${roster.most} may be`, who);
    if (!lets) return toPay();
    const companions = ofBooking.filter((r) => expectedStill(r) && r[8] !== row[8]).map((r) => r[3]);
    return said("in", "Come in", "", { ...who, companions, with: family, admits: true });
  };

  // Whether two words are one but for a slip: a letter more, less, another, or two the wrong way
  // round; in a long word two of these. A word that is only begun is held against as much of the other.
  const isClose = (typed, word) => {
    if (typed.length < 4) return false;
    const slips = typed.length < 8 ? 1 : 2;
    for (const whole of [word, word.slice(0, typed.length), word.slice(0, typed.length + 1)]) {
      if (Math.abs(whole.length - typed.length) > slips) continue;
      let before = [], last = Array.from({ length: whole.length + 1 }, (_, i) => i);
      for (let i = 1; i <= typed.length; i++) {
        const row = [i];
        for (let j = 1; j <= whole.length; j++) {
          const other = typed[i - 1] === whole[j - 1] ? 0 : 1;
          row[j] = Math.min(last[j] + 1, row[j - 1] + 1, last[j - 1] + other);
          if (i > 1 && j > 1 && typed[i - 1] === whole[j - 2] && typed[i - 2] === whole[j - 1]) row[j] = Math.min(row[j], before[j - 2] + 1);
        }
        before = last;
        last = row;
      }
      if (last[whole.length] <= slips) return true;
    }
    return false;
  };
  const names = (roster, typed, most = 30) => {
    roster.folded ??= [...roster.byAttendee.values()].map((row) => [fold(row[3]), row]);
    const words = fold(typed).split(" ").filter(Boolean);
    const found = [];
    if (!words.length) return found;
    // A booking is named by its letters, too.
    const letters = typed.toUpperCase().replace(/[^A-Z0-9]/g, "");
    if (letters.length >= 4) {
      for (const [booking, reference] of roster.references ?? []) {
        if (reference.replace(/[^A-Z0-9]/g, "").startsWith(letters)) found.push(...(roster.byBooking.get(booking) ?? []).filter((row) => !found.includes(row)));
        if (found.length >= most) return found.slice(0, most);
      }
    }
    for (const [name, row] of roster.folded) {
      if (found.includes(row) || !words.every((w) => name.includes(w))) continue;
      found.push(row);
      if (found.length === most) return found;
    }
    // Then whoever is meant with a slip.
    for (const [name, row] of roster.folded) {
      const theirs = name.split(" ");
      if (found.includes(row) || !words.every((w) => name.includes(w) || theirs.some((t) => isClose(w, t)))) continue;
      found.push(row);
      if (found.length === most) break;
    }
    return found;
  };

  return { can, queue, tray, seen, rosters, wipe, read, ready, judge, sessionAt, inSession, names, fold, clock };
})();
