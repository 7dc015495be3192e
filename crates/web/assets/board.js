// The board: dates are moved by dragging or by keyboard; what that touches is asked for
// from the server and shown before anything is saved.
(() => {
  "use strict";
  const board = document.querySelector("#board");
  const dialog = document.querySelector("#touches");
  const say = document.querySelector("#board-say");
  if (!board || !dialog) return;
  const d = board.dataset;
  const scale = Number(d.scale), dayMinutes = Number(d.dayMinutes), fromHour = Number(d.fromHour), snap = Number(d.snap);
  const lanes = [...board.querySelectorAll(".lane")];
  const token = JSON.parse(document.body.getAttribute("hx-headers:inherited"))["x-form-token"];
  let held = null;

  const pad = (n) => String(n).padStart(2, "0");
  const plus = (starts, minutes) => {
    // Local wall time, reckoned without any zone of this browser.
    const [day, clock] = starts.split("T");
    const [y, m, dd] = day.split("-").map(Number);
    const [h, min] = clock.split(":").map(Number);
    const at = new Date(Date.UTC(y, m - 1, dd, h, min) + minutes * 60000);
    return `${at.getUTCFullYear()}-${pad(at.getUTCMonth() + 1)}-${pad(at.getUTCDate())}T${pad(at.getUTCHours())}:${pad(at.getUTCMinutes())}`;
  };
  // A time and a place as a reader says them.
  const words = (starts, ends, lane) => {
    const day = new Date(`${starts.slice(0, 10)}T12:00:00Z`).toLocaleDateString("en-GB", { weekday: "long", day: "numeric", month: "long", timeZone: "UTC" });
    const where = lane ? `, ${lane.venue}${lane.room ? `, ${lane.room}` : ""}` : "";
    return `${day}, ${starts.slice(11)}–${ends.slice(11)}${where}`;
  };
  const take = (block) => {
    held = { block, minutes: 0, days: 0, lane: lanes.findIndex((l) => l.dataset.venue === block.dataset.venue && l.dataset.room === block.dataset.room) };
    held.home = held.lane;
    block.classList.add("held");
    // Drawn last, so that no lane lies over it; put back where it was when it is left.
    held.after = block.nextSibling;
    board.append(block);
    block.focus({ preventScroll: true });
  };
  const place = () => {
    const x = (held.days * dayMinutes + held.minutes) * scale;
    const y = Number(lanes[held.lane]?.dataset.top || 0) - Number(lanes[held.home]?.dataset.top || 0);
    held.block.setAttribute("transform", `translate(${x} ${y})`);
    const starts = plus(held.block.dataset.starts, held.days * 1440 + held.minutes);
    const lane = lanes[held.lane]?.dataset;
    say.textContent = words(starts, plus(held.block.dataset.ends, held.days * 1440 + held.minutes), lane);
  };
  const leave = () => {
    if (!held) return;
    held.block.removeAttribute("transform");
    held.block.classList.remove("held");
    const block = held.block;
    board.insertBefore(block, held.after && held.after.parentNode === board ? held.after : null);
    say.textContent = "";
    held = null;
    block.focus();
  };
  const ask = async () => {
    const { block, minutes, days, lane, home } = held;
    if (!minutes && !days && lane === home) { leave(); return; }
    const shift = days * 1440 + minutes;
    const starts = plus(block.dataset.starts, shift), ends = plus(block.dataset.ends, shift);
    const body = new URLSearchParams({ scope: "one", day: starts.slice(0, 10), from: starts.slice(11), until: ends.slice(11), back: location.pathname + location.search });
    if (lane !== home && lanes[lane]) { body.set("venue", lanes[lane].dataset.venue); body.set("room", lanes[lane].dataset.room); }
    try {
      const answer = await fetch(`/office/dates/${block.dataset.date}/change`, { method: "POST", body, headers: { "HX-Request": "true", "x-form-token": token } });
      dialog.innerHTML = await answer.text();
      const to = Object.assign(document.createElement("p"), { className: "lead", textContent: words(starts, ends, lanes[lane]?.dataset) });
      dialog.querySelector("h2")?.after(to);
      dialog.showModal();
    } catch {
      say.textContent = "No connection; nothing was changed. Try again.";
      leave();
    }
  };
  dialog.addEventListener("click", (e) => { if (e.target.closest("[data-close]")) dialog.close(); });
  dialog.addEventListener("close", leave);

  const point = (e) => {
    const p = new DOMPoint(e.clientX, e.clientY).matrixTransform(board.getScreenCTM().inverse());
    return { x: p.x, y: p.y };
  };
  let start = null, moved = false;
  board.addEventListener("pointerdown", (e) => {
    const block = e.target.closest("[data-move]");
    if (!block || e.button !== 0) return;
    start = { ...point(e), block };
    moved = false;
  });
  addEventListener("pointermove", (e) => {
    if (!start) return;
    const now = point(e);
    if (!moved && Math.hypot(now.x - start.x, now.y - start.y) < 5) return;
    if (!moved) { moved = true; take(start.block); }
    const raw = (now.x - start.x) / scale;
    held.days = Math.round(raw / dayMinutes);
    held.minutes = Math.abs(raw) < dayMinutes / 2 || snap < dayMinutes ? Math.round((raw - held.days * dayMinutes) / snap) * snap : 0;
    if (snap >= dayMinutes) held.minutes = 0;
    const lane = lanes.findIndex((l) => now.y >= Number(l.dataset.top) && now.y < Number(l.dataset.top) + Number(l.dataset.height) + 8);
    if (lane >= 0) held.lane = lane;
    place();
  });
  addEventListener("pointerup", () => {
    if (start && moved) ask();
    start = null;
  });
  // A drag is no click.
  board.addEventListener("click", (e) => { if (moved) { e.preventDefault(); moved = false; } }, true);
  board.addEventListener("dragstart", (e) => e.preventDefault());

  document.addEventListener("keydown", (e) => {
    if (dialog.open || e.ctrlKey || e.altKey || e.metaKey) return;
    const block = e.target.closest?.("[data-move]");
    if (!held) {
      if (block && e.key === "m") { e.preventDefault(); e.stopPropagation(); take(block); place(); }
      return;
    }
    const step = snap < dayMinutes ? snap : 0;
    const act = {
      ArrowRight: () => { if (e.shiftKey || !step) held.days += 1; else held.minutes += step; },
      ArrowLeft: () => { if (e.shiftKey || !step) held.days -= 1; else held.minutes -= step; },
      ArrowDown: () => { held.lane = Math.min(lanes.length - 1, held.lane + 1); },
      ArrowUp: () => { held.lane = Math.max(0, held.lane - 1); },
      Enter: ask,
      Escape: leave,
    }[e.key];
    if (!act) return;
    e.preventDefault();
    e.stopPropagation();
    act();
    if (held && e.key.startsWith("Arrow")) place();
  }, true);
})();
