// Serves the console's shell at once, also where the hub does not answer. What the hub says is never kept here: the page
// itself shows what it saw last, with its age, and says that it is not live.
const shell = 'shell-2'

self.addEventListener('install', (e) => {
  // Browsers that can do so need not wake this worker first.
  if (e.addRoutes) e.waitUntil(e.addRoutes([
    { condition: { urlPattern: new URLPattern({ pathname: '/assets/*' }) }, source: { cacheName: shell } },
    { condition: { urlPattern: new URLPattern({ pathname: '/(api|push|demo)/*' }) }, source: 'network' },
    { condition: { requestMode: 'navigate' }, source: 'race-network-and-fetch-handler' },
  ]).catch(() => undefined))
  e.waitUntil(keepShell().then(() => self.skipWaiting()))
})
self.addEventListener('activate', (e) => {
  e.waitUntil(caches.keys().then((names) => Promise.all(names.filter((n) => n !== shell).map((n) => caches.delete(n)))).then(() => self.clients.claim()))
})
self.addEventListener('fetch', (e) => {
  const url = new URL(e.request.url)
  if (e.request.method !== 'GET' || url.origin !== location.origin || /^\/(api|push|demo|mqtt|ca\.pem|healthz)/.test(url.pathname)) return // these are the hub's own
  if (e.request.mode === 'navigate') e.respondWith(kept('/', e))
  else if (url.pathname.startsWith('/assets/')) e.respondWith(kept(e.request, e, true))
  else e.respondWith(kept(e.request, e))
})

// The page, and what it names: without those it would stay blank.
async function keepShell() {
  const cache = await caches.open(shell)
  const r = await fetch('/')
  const text = await r.clone().text()
  await cache.put('/', r)
  await cache.addAll(['/mark.svg', ...new Set(text.match(/\/assets\/[\w./-]+/g) ?? [])])
}

// What is kept is served at once, and fetched anew for the next time; names of assets change with what is in them.
async function kept(key, e, forever) {
  const cache = await caches.open(shell)
  const have = await cache.match(key)
  if (have && forever) return have
  const fresh = fetch(key === '/' ? '/' : e.request).then(async (r) => {
    if (r.ok && key === '/' && have && (await r.clone().text()) !== (await have.clone().text())) {
      // The hub is newer than what is shown: the page loads anew as soon as somebody goes to another one.
      for (const c of await self.clients.matchAll()) c.postMessage('newer')
    }
    if (r.ok) await cache.put(key, r.clone())
    if (r.ok && key === '/') await tidy(cache)
    return r
  })
  if (!have) return fresh
  e.waitUntil(fresh.catch(() => undefined))
  return have
}

// Assets that were fetched more than a month ago go; one that is still needed is fetched again.
async function tidy(cache) {
  const old = Date.now() - 30 * 86400_000
  for (const r of await cache.keys()) {
    if (!new URL(r.url).pathname.startsWith('/assets/')) continue
    const at = Date.parse((await cache.match(r)).headers.get('date') ?? '')
    if (at < old) await cache.delete(r)
  }
}

// A message of the hub, encrypted for this console alone.
self.addEventListener('push', (e) => {
  let m = {}
  try { m = e.data.json() } catch { /* then it says no more than that something is */ }
  e.waitUntil(self.registration.showNotification(m.title ?? 'A message from the hub', { body: m.body ?? '', tag: m.tag || undefined, data: { link: m.link }, icon: '/icon-192.png', requireInteraction: m.severity === 'critical' }))
})
self.addEventListener('notificationclick', (e) => {
  e.notification.close()
  e.waitUntil(self.clients.openWindow(e.notification.data?.link || '/alerts'))
})
