// The form to submit an event: a small computation that costs a person nothing, and the buttons
// of what is seen at once.
(() => {
  "use strict";
  const form = document.querySelector("#submission");
  if (!form) return;
  // SHA-256 (FIPS 180-4), in plain script: the browser's own needs a secure page.
  const k = [], h0 = [];
  for (let n = 2; k.length < 64; n++) {
    let prime = true;
    for (let d = 2; d * d <= n; d++) if (n % d === 0) prime = false;
    if (!prime) continue;
    if (h0.length < 8) h0.push((Math.sqrt(n) % 1) * 4294967296 | 0);
    k.push((Math.cbrt(n) % 1) * 4294967296 | 0);
  }
  const first = (text) => {
    const bytes = new TextEncoder().encode(text), blocks = ((bytes.length + 8) >> 6) + 1;
    const words = new Int32Array(blocks * 16), h = h0.slice(), w = new Int32Array(64);
    bytes.forEach((b, i) => { words[i >> 2] |= b << (24 - (i % 4) * 8); });
    words[bytes.length >> 2] |= 0x80 << (24 - (bytes.length % 4) * 8);
    words[words.length - 1] = bytes.length * 8;
    const r = (x, n) => (x >>> n) | (x << (32 - n));
    for (let at = 0; at < words.length; at += 16) {
      for (let i = 0; i < 64; i++) {
        if (i < 16) { w[i] = words[at + i]; continue; }
        const a = w[i - 15], b = w[i - 2];
        w[i] = (w[i - 16] + (r(a, 7) ^ r(a, 18) ^ (a >>> 3)) + w[i - 7] + (r(b, 17) ^ r(b, 19) ^ (b >>> 10))) | 0;
      }
      let [a, b, c, d, e, f, g, j] = h;
      for (let i = 0; i < 64; i++) {
        const t = (j + (r(e, 6) ^ r(e, 11) ^ r(e, 25)) + ((e & f) ^ (~e & g)) + k[i] + w[i]) | 0;
        const u = ((r(a, 2) ^ r(a, 13) ^ r(a, 22)) + ((a & b) ^ (a & c) ^ (b & c))) | 0;
        j = g; g = f; f = e; e = (d + t) | 0; d = c; c = b; b = a; a = (t + u) | 0;
      }
      [a, b, c, d, e, f, g, j].forEach((x, i) => { h[i] = (h[i] + x) | 0; });
    }
    return h[0];
  };
  const work = form.querySelector("[name=work]");
  if (work?.dataset.stamp) {
    let n = 0;
    const go = () => {
      for (const end = n + 500; n < end; n++) {
        if (first(`${work.dataset.stamp} ${n}`) >>> 19 === 0) { work.value = String(n); return; }
      }
      setTimeout(go, 10);
    };
    setTimeout(go, 300);
  }
  // What is seen at once can be taken over with one click.
  document.addEventListener("click", (e) => {
    const put = e.target.closest("[data-put]"), tick = e.target.closest("[data-tick]");
    if (put) {
      const input = form.elements[put.dataset.put];
      input.value = put.dataset.value;
      input.dispatchEvent(new Event("input", { bubbles: true }));
    } else if (tick) {
      const box = [...form.querySelectorAll(`[name="${tick.dataset.tick}"]`)].find((b) => b.value === tick.dataset.value);
      if (!box) return;
      box.closest("details")?.setAttribute("open", "");
      box.checked = true;
      box.dispatchEvent(new Event("change", { bubbles: true }));
    }
  });
  // What was begun has an address of its own: a page that was refused is loaded again there, and
  // what was typed just before leaving is kept, too.
  const own = () => { if (!form.hasAttribute("hx-post")) return ""; const [id, key] = [form.elements.id?.value, form.elements.key?.value]; return id && key ? `/submissions/${id}/${key}` : ""; };
  if (/[?&]kept=/.test(location.search) && own()) history.replaceState(null, "", own());
  // Which fields are other than they were last kept goes with them by name: of two devices
  // neither puts the other's fields back.
  const changed = form.elements.changed;
  const shown = (input) => (input.type === "checkbox" || input.type === "radio" ? input.defaultChecked && input.value : input.type?.startsWith("select") ? [...input.options].find((o) => o.defaultSelected)?.value ?? input.options[0]?.value : input.defaultValue);
  const gather = (value) => {
    const fields = new Map();
    for (const input of form.elements) {
      if (!input.name || ["hidden", "submit"].includes(input.type) && input.name !== "description") continue;
      const said = value(input);
      fields.set(input.name, `${fields.get(input.name) ?? ""}${said || ""}\n`);
    }
    return fields;
  };
  const now = () => gather((input) => (input.type === "checkbox" || input.type === "radio" ? input.checked && input.value : input.value));
  let kept = gather(shown), sent = kept;
  // The editor writes the words anew as it begins, and that changes nothing.
  addEventListener("trix-initialize", () => { kept.set("description", now().get("description")); });
  const others = () => [...now()].filter(([name, said]) => kept.get(name) !== said).map(([name]) => name);
  const tell = () => { if (changed) { changed.disabled = false; changed.value = others().join(" "); } };
  for (const kind of ["input", "change", "trix-change", "submit"]) form.addEventListener(kind, tell, true);
  form.addEventListener("htmx:config:request", () => { sent = now(); });
  document.addEventListener("htmx:after:swap", () => { kept = sent; tell(); });
  let leaves = false;
  form.addEventListener("submit", () => { leaves = true; });
  window.addEventListener("pagehide", () => {
    tell();
    if (!leaves && changed?.value && own()) navigator.sendBeacon("/submit/keep", new URLSearchParams(new FormData(form)));
  });
  // Only the fields of the chosen way are in view.
  const show = () => {
    const how = form.querySelector("[name=how]:checked")?.value;
    form.querySelector(".forseveral").hidden = how !== "several";
    form.querySelector(".forrule").hidden = how !== "rule";
    const booking = form.querySelector(".forbooking");
    if (booking) booking.hidden = !form.elements.bookable.checked;
  };
  form.addEventListener("change", show);
  show();
})();
