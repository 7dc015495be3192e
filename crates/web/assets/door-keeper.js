// Keeps the pages of the door and what they are made of, so that they open without network. It
// keeps nobody's names: those lie with the page, encrypted.
"use strict";
const KEPT = "door-VERSION";
const files = ["bootstrap/bootstrap.min.css", "look.css", "htmx/htmx.min.js", "page.js", "live.js", "door-keep.js", "door.js", "door-worker.js",
  "zxing/zxing-reader.js", "zxing/zxing_reader.wasm", "mark.svg",
  "fonts/besley-latin-wght-normal.woff2", "fonts/source-sans-3-latin-wght-normal.woff2", "fonts/source-sans-3-latin-ext-wght-normal.woff2"];
const SHELL = "/door/shell";
addEventListener("install", (e) => e.waitUntil((async () => {
  const kept = await caches.open(KEPT);
  await kept.addAll(files.map((file) => `/static/VERSION/${file}`).concat(SHELL));
  await skipWaiting();
})()));
addEventListener("activate", (e) => e.waitUntil((async () => {
  for (const name of await caches.keys()) if (name.startsWith("door-") && name !== KEPT) await caches.delete(name);
  await clients.claim();
})()));
// A page is asked for; where no answer comes in time, the one without anybody on it opens, and
// finds what the device keeps.
const page = async (request) => {
  const limit = new AbortController();
  const timer = setTimeout(() => limit.abort(), 2500);
  try {
    const answer = await fetch(request, { signal: limit.signal });
    if (answer.status < 500) return answer;
  } catch { /* no answer */ } finally { clearTimeout(timer); }
  return (await caches.match(SHELL)) ?? Response.error();
};
addEventListener("fetch", (e) => {
  const { request } = e, url = new URL(request.url);
  if (request.method !== "GET" || url.origin !== location.origin) return;
  if (request.mode === "navigate" && /^\/door(\/\d+)?$/.test(url.pathname)) e.respondWith(page(request));
  else if (url.pathname.startsWith("/static/")) e.respondWith((async () => (await caches.match(request, { ignoreSearch: true })) ?? fetch(request))());
});
