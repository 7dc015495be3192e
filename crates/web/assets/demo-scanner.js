// In the demo alone: the scanner that stands in types here, through the window it opened.
(() => {
  "use strict";
  const near = (origin) => /^http:\/\/(127\.0\.0\.1|localhost)(:\d+)?$/.test(origin);
  addEventListener("message", async ({ data, origin }) => {
    if (!near(origin) || !Array.isArray(data?.scanner)) return;
    for (const { key, code } of data.scanner) {
      const at = document.activeElement ?? document.body;
      const down = new KeyboardEvent("keydown", { key, code, bubbles: true, cancelable: true });
      const goes = at.dispatchEvent(down);
      if (goes && key.length === 1 && /^(INPUT|TEXTAREA)$/.test(at.tagName)) { at.value += key; at.dispatchEvent(new Event("input", { bubbles: true })); }
      await new Promise((done) => setTimeout(done, data.pace));
    }
  });
})();
