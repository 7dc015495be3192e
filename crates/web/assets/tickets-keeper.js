// Keeps the pages of tickets that were opened on this telephone, for when there is no network.
"use strict";
const FILES = "tickets-VERSION", PAGES = "tickets-pages";
const files = ["bootstrap/bootstrap.min.css", "look.css", "page.js", "tickets.js", "htmx/htmx.min.js", "mark.svg", "fonts/besley-latin-wght-normal.woff2", "fonts/source-sans-3-latin-wght-normal.woff2"];
const AGE = 60 * 24 * 3600 * 1000, MOST = 30;
addEventListener("install", (e) => e.waitUntil((async () => {
  await (await caches.open(FILES)).addAll(files.map((file) => `/static/VERSION/${file}`));
  await skipWaiting();
})()));
addEventListener("activate", (e) => e.waitUntil((async () => {
  for (const name of await caches.keys()) if (name.startsWith("tickets-") && ![FILES, PAGES].includes(name)) await caches.delete(name);
  await clients.claim();
})()));
// A page says what it shows; it is kept as it stood, with the minute.
addEventListener("message", (e) => e.waitUntil((async () => {
  const { keep, html } = e.data ?? {};
  if (!keep || new URL(keep, location.origin).origin !== location.origin) return;
  const pages = await caches.open(PAGES);
  const at = new Date();
  const when = `on ${at.toLocaleDateString("en-GB", { day: "numeric", month: "long" })} at ${at.toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" })}`;
  const marked = html.replace(/<html /, `<html data-kept="${when}" `);
  await pages.put(keep, new Response(`<!doctype html>${marked}`, { headers: { "content-type": "text/html; charset=utf-8", "x-kept": String(at.getTime()) } }));
  const known = [];
  for (const request of await pages.keys()) known.push([Number((await pages.match(request)).headers.get("x-kept")), request]);
  known.sort((a, b) => b[0] - a[0]);
  for (const [n, [at, request]] of known.entries()) if (n >= MOST || at < Date.now() - AGE) await pages.delete(request);
})()));
addEventListener("fetch", (e) => {
  const { request } = e, url = new URL(request.url);
  if (request.method !== "GET" || url.origin !== location.origin) return;
  if (request.mode === "navigate") {
    e.respondWith((async () => {
      const limit = new AbortController(), timer = setTimeout(() => limit.abort(), 4000);
      try {
        const answer = await fetch(request, { signal: limit.signal });
        if (answer.status < 500) return answer;
      } catch { /* no answer */ } finally { clearTimeout(timer); }
      return (await caches.match(url.pathname, { cacheName: PAGES })) ?? Response.error();
    })());
  } else if (url.pathname.startsWith("/static/")) e.respondWith((async () => (await caches.match(request)) ?? fetch(request))());
});
