// The door: keyboard-wedge scanner, camera, photo, names, sound. A scan that gets
// no answer is kept and sent again under the same key, so that it counts once.
(() => {
  "use strict";
  const wrap = document.querySelector("#doorwrap");
  if (!wrap) return;
  const { date, token, static: files } = wrap.dataset;
  const $ = (id) => document.getElementById(id);
  const text = $("text");
  const say = (words, ok) => {
    $("netsay").textContent = words;
    $("net").classList.toggle("late", !ok);
  };

  // Sending, one after the other, in the order of the scans.
  const waiting = [];
  let sending = false;
  const key = () => (crypto.randomUUID ? crypto.randomUUID() : Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, "0")).join(""));
  const shown = (html) => {
    const answer = document.createElement("template");
    answer.innerHTML = html;
    const verdict = answer.content.querySelector("#verdict");
    const row = answer.content.querySelector("template")?.content.firstElementChild;
    if (!verdict || !row) return false;
    // The region stays, so that screen readers hear what is new in it.
    const place = $("verdict");
    place.className = verdict.className;
    place.dataset.verdict = verdict.dataset.verdict;
    place.innerHTML = verdict.innerHTML;
    place.classList.remove("fresh");
    void place.offsetWidth;
    place.classList.add("fresh");
    $("nolog")?.remove();
    const old = $(row.id);
    if (old) old.replaceWith(row);
    else $("log").prepend(row);
    while ($("log").children.length > 12) $("log").lastElementChild.remove();
    const last = [...document.querySelectorAll("#log [data-undo]")][0];
    const undo = $("undolast");
    undo.elements.scan.value = last ? last.elements.scan.value : "";
    undo.querySelector("button").disabled = !last;
    sound(verdict.dataset.verdict);
    return true;
  };
  // What is being paid cannot be paid once more with another button.
  const payButtons = (off) => { for (const button of document.querySelectorAll("[data-pay] button")) button.disabled = off; };
  const flash = (words) => { $("flash").textContent = words; };
  const send = async () => {
    if (sending) return;
    sending = true;
    while (waiting.length) {
      const { path, body } = waiting[0];
      try {
        const limit = new AbortController();
        const timer = setTimeout(() => limit.abort(), 6000);
        const answer = await fetch(path, { method: "POST", body, headers: { "x-form-token": token, "HX-Request": "true" }, signal: limit.signal, redirect: "follow" });
        const html = await answer.text();
        clearTimeout(timer);
        if (answer.redirected) { location.reload(); return; }
        waiting.shift();
        flash("");
        if (!shown(html)) { payButtons(false); const part = document.createElement("template"); part.innerHTML = html; flash(part.content.textContent.trim() || "That did not work; try again."); sound("no"); }
        say(waiting.length ? `${waiting.length} scans still to send` : "In step with the other doors", !waiting.length);
      } catch {
        const n = waiting.length;
        say(`No answer. ${n === 1 ? "One scan is" : `${n} scans are`} kept here and sent again; leave this page open.`, false);
        const place = $("verdict");
        place.className = "verdict mis";
        place.dataset.verdict = "mis";
        place.innerHTML = '<div><p class="word">No answer</p><p class="what"><b>Not checked yet: the program cannot be reached.</b><span>The scan is kept and sent again by itself.</span></p></div>';
        await new Promise((r) => setTimeout(r, 1500));
      }
    }
    sending = false;
  };
  document.addEventListener("live", ({ detail }) => {
    if (!waiting.length) say(detail.up ? "In step with the other doors" : "Out of step with the other doors; connecting again", detail.up);
  });
  const scan = (what) => {
    waiting.push({ path: `/door/${date}/scan`, body: new URLSearchParams({ key: key(), at: Date.now(), ...what }) });
    send();
  };
  window.addEventListener("beforeunload", (e) => { if (waiting.length) e.preventDefault(); });

  // Forms of this page go the same way.
  document.addEventListener("submit", (e) => {
    const form = e.target;
    if (form.matches("[data-undo]")) {
      e.preventDefault();
      if (form.elements.scan.value) { waiting.push({ path: form.action, body: new URLSearchParams({ scan: form.elements.scan.value }) }); send(); }
    } else if (form.matches("[data-pay]")) {
      e.preventDefault();
      const body = new URLSearchParams(new FormData(form));
      if (e.submitter?.name) body.set(e.submitter.name, e.submitter.value);
      waiting.push({ path: form.action, body });
      payButtons(true);
      send();
    } else if (form.matches("[data-admit]")) {
      e.preventDefault();
      scan({ attendee: form.elements.attendee.value });
      clear();
    } else if (form.id === "scanform") {
      e.preventDefault();
      const typed = text.value.trim();
      if (!typed) return;
      const only = document.querySelectorAll("#names [data-admit]");
      if (looksLikeCode(typed)) { scan({ text: typed }); clear(); }
      else if (only.length === 1) only[0].requestSubmit();
      else only[0]?.querySelector("button").focus();
    }
  });
  const looksLikeCode = (typed) => /^[bcdfghjklnprstvx0-9]{10,14}$/i.test(typed.replace(/[\s\-]/g, ""));
  const clear = () => { text.value = ""; $("names").replaceChildren(); if (!matchMedia("(pointer: coarse)").matches) text.focus(); };

  // A scanner that types: keys in a burst, then Enter or Tab, wherever the focus is.
  // What reads like one of our codes counts at any pace (some scanners are slow, and
  // so are busy devices); anything else only at a pace that no finger keeps, and only
  // if it is no name.
  let typed = "", first = 0, before = 0, began = "";
  document.addEventListener("keydown", (e) => {
    if (e.isComposing || e.ctrlKey || e.altKey || e.metaKey || document.activeElement?.id === "code") return;
    const now = performance.now();
    if (now - before > 300) { typed = ""; first = now; began = text.value; }
    before = now;
    if (e.key.length === 1) typed += e.key;
    else if (e.key === "Enter" || e.key === "Tab") {
      const read = typed, quick = (now - first) / Math.max(1, read.length) < 50;
      typed = "";
      const name = /^[\p{L}\s.'’-]+$/u.test(read);
      if (!looksLikeCode(read) && !(read.length >= 8 && quick && !name)) return;
      e.preventDefault();
      e.stopImmediatePropagation();
      if (document.activeElement === text) text.value = began;
      clear();
      scan({ text: read, by: "scanner" });
    } else if (e.key !== "Shift") typed = "";
  }, true);

  // Sound: rising for come in, one low tone for everything that stops.
  let audio = null, loud = localStorage.getItem("door-sound") !== "off";
  const button = $("sound");
  const soundWord = () => { button.textContent = loud ? "Sound on" : "Sound off"; button.setAttribute("aria-pressed", String(loud)); };
  soundWord();
  button.addEventListener("click", () => { loud = !loud; localStorage.setItem("door-sound", loud ? "on" : "off"); soundWord(); if (loud) sound("in"); });
  const tone = (hertz, at, long, shape) => {
    const o = audio.createOscillator(), g = audio.createGain(), t = audio.currentTime + at;
    o.type = shape; o.frequency.value = hertz;
    g.gain.setValueAtTime(0.0001, t); g.gain.exponentialRampToValueAtTime(0.25, t + 0.01); g.gain.exponentialRampToValueAtTime(0.0001, t + long);
    o.connect(g).connect(audio.destination); o.start(t); o.stop(t + long);
  };
  const sound = (verdict) => {
    if (!loud) return;
    try {
      audio ??= new AudioContext();
      if (verdict === "in") { tone(660, 0, 0.12, "sine"); tone(990, 0.11, 0.2, "sine"); }
      else if (verdict === "dup") { tone(440, 0, 0.12, "triangle"); tone(440, 0.18, 0.12, "triangle"); }
      else if (verdict === "ready") tone(520, 0, 0.08, "sine");
      else { tone(196, 0, 0.4, "square"); }
    } catch { /* a device without sound */ }
  };

  // Camera and photo, read in a worker.
  let worker = null, stream = null, busy = false, lastText = "", lastSeen = 0;
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
  const frame = () => {
    if (!stream) return;
    if (!busy && video.videoWidth) {
      const scale = Math.min(1, 960 / video.videoWidth);
      canvas.width = video.videoWidth * scale; canvas.height = video.videoHeight * scale;
      const pen = canvas.getContext("2d", { willReadFrequently: true });
      pen.drawImage(video, 0, 0, canvas.width, canvas.height);
      const image = pen.getImageData(0, 0, canvas.width, canvas.height);
      busy = true;
      reader().postMessage({ image }, [image.data.buffer]);
    }
    setTimeout(() => (video.requestVideoFrameCallback ? video.requestVideoFrameCallback(frame) : frame()), 60);
  };
  const stop = () => {
    stream?.getTracks().forEach((t) => t.stop());
    stream = null; video.srcObject = null;
    $("viewfinder").hidden = true;
    $("camera").setAttribute("aria-pressed", "false"); $("camera").textContent = "Camera";
  };
  const why = (error) => ({
    NotAllowedError: "The camera was not allowed. Allow it for this page in the browser, or take a photo, or type the name.",
    NotFoundError: "This device has no camera. Use a scanner, or type the name.",
    NotReadableError: "Another program is using the camera. Close it and try again.",
  }[error?.name] ?? "The camera did not start. Try again, take a photo, or type the name.");
  $("camera").addEventListener("click", async () => {
    if (stream) { stop(); return; }
    if (!window.isSecureContext || !navigator.mediaDevices) {
      tell("Browsers open the camera only on secure pages (https, or this very machine). Take a photo, use a scanner, or type the name.");
      return;
    }
    tell("");
    try {
      reader();
      stream = await navigator.mediaDevices.getUserMedia({ video: { facingMode: { ideal: "environment" }, width: { ideal: 1280 } } });
      video.srcObject = stream;
      $("viewfinder").hidden = false;
      $("camera").setAttribute("aria-pressed", "true"); $("camera").textContent = "Camera off";
      await video.play();
      frame();
    } catch (error) { stop(); tell(why(error)); }
  });
  document.addEventListener("visibilitychange", () => { if (document.hidden) stop(); });
})();
