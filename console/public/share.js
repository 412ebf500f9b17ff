// Takes what another app shares with the installed page, keeps it for a moment, and opens the night page with it.
// Nothing else is touched: pages and data always come from the server itself.
const SHARED = "night-shared";

self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (event) => event.waitUntil(self.clients.claim()));

self.addEventListener("fetch", (event) => {
  const url = new URL(event.request.url);
  if (event.request.method !== "POST" || url.pathname !== "/night/share") return;
  event.respondWith(
    (async () => {
      // The phone itself shares without a site's origin; a form on somebody else's page has theirs.
      const foreign = (place) => Boolean(place) && place !== "null" && new URL(place).origin !== self.location.origin;
      if (foreign(event.request.headers.get("origin")) || foreign(event.request.referrer)) return Response.redirect("/night", 303);
      const form = await event.request.formData();
      const cache = await caches.open(SHARED);
      let n = 0;
      for (const file of form.getAll("files")) {
        if (!(file instanceof File)) continue;
        const headers = { "content-type": file.type, "x-name": encodeURIComponent(file.name), "x-time": String(file.lastModified) };
        await cache.put(`/night/shared/${Date.now()}-${n++}`, new Response(file, { headers }));
      }
      return Response.redirect("/night", 303);
    })(),
  );
});
