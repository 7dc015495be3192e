// Setting a scanner up: what it typed for a code that is known tells its layout against that of
// this device, what it sends before and behind, and how fast.
(() => {
  "use strict";
  const setup = document.querySelector("[data-setup]")?.dataset.setup, $ = (id) => document.getElementById(id);
  if (!setup) return;
  // What keys give on layouts where they are not those of a US keyboard (ISO/IEC 9995 positions).
  const MOVED = {
    "US or UK": {},
    German: { Y: "Z", Z: "Y", "-": "ß" },
    French: { A: "Q", Q: "A", W: "Z", Z: "W", M: ",", "-": ")", 0: "à", 1: "&", 2: "é", 3: "\"", 4: "'", 5: "(", 6: "-", 7: "è", 8: "_", 9: "ç" },
    Swiss: { Y: "Z", Z: "Y", "-": "'" },
    Spanish: { "-": "'" },
    Czech: { Y: "Z", Z: "Y", "-": "=", 0: "é", 1: "+", 2: "ě", 3: "š", 4: "č", 5: "ř", 6: "ž", 7: "ý", 8: "á", 9: "í" },
    Turkish: { "-": "*" },
  };
  const typedOn = (moved) => [...setup].map((c) => moved[c] ?? c).join("");
  // The scanner speaks one layout and the device another: either may be the US one.
  const back = (moved) => Object.fromEntries(Object.entries(moved).map(([a, b]) => [b, a]));
  const pairs = Object.entries(MOVED).flatMap(([name, moved]) => name === "US or UK" ? [[`the same for scanner and device`, typedOn({})]] : [
    [`the device is set to ${name}, the scanner to US`, typedOn(moved)],
    [`the scanner is set to ${name}, the device to US`, typedOn(back(moved))],
  ]);
  let typed = "", gaps = [], before = 0, ends = [], timer = 0;
  const fact = (name, value) => { const dt = document.createElement("dt"), dd = document.createElement("dd"); dt.textContent = name; dd.textContent = value; $("scanfacts").append(dt, dd); };
  const judge = () => {
    const text = typed, folded = text.toUpperCase(), sent = ends.slice();
    typed = ""; ends = [];
    if (text.length < 8) { gaps = []; return; }
    $("scanfacts").replaceChildren();
    $("scanadvice").replaceChildren();
    const advise = (words) => { const li = document.createElement("li"); li.textContent = words; $("scanadvice").append(li); };
    const hit = pairs.map(([name, as]) => ({ name, as: as.toUpperCase(), at: folded.indexOf(as.toUpperCase()) })).find(({ at }) => at >= 0);
    const pace = gaps.length ? gaps.reduce((a, b) => a + b, 0) / gaps.length : 0;
    gaps = [];
    if (!hit) {
      $("scanword").textContent = "This is not the code on this page, or a layout that is not known here";
      fact("It typed", text);
      advise("Tickets are read all the same where letters stay in their places; scan a ticket at the door to see. Else set the scanner's keyboard to the country of this device.");
      return;
    }
    const prefix = text.slice(0, hit.at), suffix = text.slice(hit.at + hit.as.length), same = hit.name.startsWith("the same");
    const aim = /^\]?.?[A-Za-z]\d$/.test(prefix) && prefix.length === 3;
    const well = same && sent.length >= 1;
    $("scanword").textContent = well ? "All is well" : "It works for tickets";
    fact("Layout", hit.name);
    fact("Before the code", prefix ? `${prefix}${aim ? " (says how the code is printed)" : ""}` : "nothing");
    fact("Behind the code", [suffix, ...sent].filter(Boolean).join(", ") || "nothing");
    fact("Letters", text === text.toUpperCase() ? "large" : text === text.toLowerCase() ? "small: Caps Lock, or the scanner turns them" : "mixed");
    fact("Pace", `${Math.round(pace)} ms a letter`);
    if (!same) advise("Tickets are read, since their letters are the same keys everywhere. Wristbands and cards of the house with digits or signs are not: set the scanner's keyboard to that of the device.");
    if (!sent.length) advise("It sends no Enter: each scan waits a moment until nothing more comes. Set its suffix to Enter (CR).");
    if (sent.length > 1) advise("It sends Enter more than once; that does no harm here.");
    if (prefix && !aim) advise("It puts something before each code. Clear its prefix, or tickets are taken for something else.");
    if (suffix) advise("It puts something behind each code. Clear its suffix but for Enter.");
    if (pace > 80) advise("It is slow, as over Bluetooth. That is fine; hold the next ticket until this one is told.");
  };
  document.addEventListener("keydown", (e) => {
    if (e.ctrlKey || e.metaKey || e.isComposing) return;
    const now = e.timeStamp;
    clearTimeout(timer);
    if (now - before > 500) { typed = ""; gaps = []; ends = []; } else if (typed && e.key.length === 1) gaps.push(now - before);
    before = now;
    if (e.key.length === 1) typed += e.key;
    else if ((e.key === "Enter" || e.key === "Tab") && typed) { ends.push(e.key); e.preventDefault(); }
    timer = setTimeout(() => { judge(); $("scantry").select(); }, 250);
  }, true);
})();
