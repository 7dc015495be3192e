// The foyer of a date online: it counts down by the server's clock, says when it is in the
// visitor's own zone, asks again by itself, and tries sound, clock and windows there and then.
(() => {
  "use strict";
  // On into the room, in the place of the page that led there: going back does not lead in again.
  const onward = document.querySelector("[data-onward]");
  if (onward) location.replace(onward.href);
  const place = document.querySelector("[data-foyer]");
  if (!place) return;
  const part = () => place.querySelector("[data-stands]");
  const at = (name) => Number(part()?.dataset[name]);
  // How far the visitor's clock is off: the server's time when the page came, and the time that
  // passed since by a clock that nobody sets.
  let came = performance.now();
  let server = at("now");
  const now = () => server + (performance.now() - came);
  const pad = (n) => String(n).padStart(2, "0");
  const long = (ms) => {
    const s = Math.max(0, Math.ceil(ms / 1000));
    const [d, h, m] = [Math.floor(s / 86400), Math.floor(s / 3600) % 24, Math.floor(s / 60) % 60];
    if (d > 0) return `${d} ${d === 1 ? "day" : "days"}, ${h} h ${pad(m)} min`;
    return h > 0 ? `${h} h ${pad(m)} min ${pad(s % 60)} s` : `${m} min ${pad(s % 60)} s`;
  };
  const own = () => {
    const where = place.querySelector("[data-own]");
    if (!where) return;
    const zone = Intl.DateTimeFormat().resolvedOptions().timeZone || "";
    const said = new Intl.DateTimeFormat(undefined, {
      weekday: "long", day: "numeric", month: "long", hour: "2-digit", minute: "2-digit",
    }).format(new Date(at("starts")));
    where.textContent = `Where you are: ${said} (${zone.replaceAll("_", " ")})`;
    where.hidden = false;
  };
  const clock = () => {
    const said = document.querySelector("[data-said=clock]");
    if (!said) return;
    const off = Math.round((Date.now() - now()) / 60000);
    said.textContent = Math.abs(off) < 1 ? "Your clock is right."
      : `Your clock is ${Math.abs(off)} min ${off > 0 ? "fast" : "slow"}; this page goes by the right one.`;
  };
  let asking = false;
  let next = 0;
  const ask = async () => {
    if (asking) return;
    asking = true;
    try {
      const answer = await fetch(place.dataset.foyer, { headers: { "x-part": "1" }, cache: "no-store" });
      if (answer.ok) {
        const html = await answer.text();
        const before = part()?.dataset.stands;
        const typing = place.contains(document.activeElement);
        const focused = typing && document.activeElement.matches("[data-go]");
        place.innerHTML = html;
        [came, server] = [performance.now(), at("now")];
        if (focused || (before !== "open" && part()?.dataset.stands === "open")) {
          place.querySelector("[data-go]")?.focus();
        }
        own();
        clock();
      }
    } catch { /* No network: it is asked again. */ }
    asking = false;
  };
  const every = () => ({ before: 15000, noroom: 5000, open: 30000, pay: 15000, asked: 15000 })[part()?.dataset.stands] ?? 60000;
  const tick = () => {
    const count = place.querySelector("[data-count]");
    const stands = part()?.dataset.stands;
    const left = (stands === "before" ? at("opens") : at("starts")) - now();
    if (count) {
      const soon = stands === "before" || ((stands === "open" || stands === "noroom") && left > 0);
      count.hidden = !soon;
      if (soon) count.textContent = stands === "before" ? `opens in ${long(left)}` : `begins in ${long(left)}`;
    }
    const due = stands === "before" && left <= 0;
    if (performance.now() >= next || due && performance.now() >= next - every() + 1000) {
      next = performance.now() + every();
      ask();
    }
  };
  next = performance.now() + every();
  own();
  clock();
  tick();
  setInterval(tick, 500);
  document.addEventListener("visibilitychange", () => { if (!document.hidden) ask(); });

  const tries = document.querySelector("[data-tries]");
  if (!tries) return;
  tries.hidden = false;
  const said = (what, words) => { document.querySelector(`[data-said=${what}]`).textContent = words; };
  document.querySelector("[data-try=sound]").addEventListener("click", async () => {
    try {
      const sound = new AudioContext();
      await sound.resume();
      [440, 554, 659].forEach((tone, n) => {
        const [voice, loud] = [sound.createOscillator(), sound.createGain()];
        voice.frequency.value = tone;
        loud.gain.value = 0.2;
        voice.connect(loud).connect(sound.destination);
        voice.start(sound.currentTime + n * 0.3);
        voice.stop(sound.currentTime + n * 0.3 + 0.25);
      });
      said("sound", "Three tones are played. If you hear none, turn the sound up, or choose other speakers.");
    } catch {
      said("sound", "This browser plays no sound here.");
    }
  });
  document.querySelector("[data-try=window]").addEventListener("click", () => {
    const opened = window.open("/foyer/try", "_blank");
    said("window", opened ? "New windows open." : "The browser holds new windows back: allow them for this address.");
  });
})();
