// For other sites: shows what <div data-matricle="address"> names, as high as it needs.
(() => {
  "use strict";
  const frames = new Map();
  for (const place of document.querySelectorAll("[data-matricle]")) {
    if (place.querySelector("iframe")) continue;
    const frame = document.createElement("iframe");
    frame.src = place.dataset.matricle;
    frame.title = place.dataset.title || "Book a seat";
    frame.setAttribute("style", "width:100%;border:0;min-height:120px;display:block");
    place.append(frame);
    frames.set(frame, new URL(frame.src).origin);
  }
  addEventListener("message", (e) => {
    for (const [frame, origin] of frames) {
      if (e.source === frame.contentWindow && e.origin === origin && Number.isFinite(e.data?.matricleHeight)) {
        frame.style.height = `${Math.min(6000, Math.ceil(e.data.matricleHeight))}px`;
      }
    }
  });
})();
