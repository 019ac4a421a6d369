import { spawnSync } from 'node:child_process'
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { networkInterfaces, tmpdir } from 'node:os'
import { join } from 'node:path'
import { afterAll, beforeAll, expect, test } from 'vitest'
import { type BrowserContext, chromium } from 'playwright-core'
import { Board, flags, Hub, phone, signIn, sleep, until } from './hub'

// The console as phones in the house have it: at an address of this machine that is not loopback, over plain HTTP and over
// HTTPS with the hub's own certificate, which the browser trusts like any other once it was brought in.
const here = Object.values(networkInterfaces())
  .flat()
  .find((a) => a && a.family === 'IPv4' && !a.internal)?.address
const hub = new Hub()
const home = mkdtempSync(join(tmpdir(), 'idleember-home-'))
let context: BrowserContext
let board: Board
let plain = ''
let safe = ''

beforeAll(async () => {
  if (!here) return
  hub.house = true
  await hub.start()
  await hub.setUp()
  board = new Board(hub, 'drying_room', await hub.device('drying_room')).connect()
  board.publish('is/heater', 'off')
  board.publish('r/temperature', '21.0')
  plain = `http://${here}:${hub.http}`
  safe = `https://${here}:${hub.https}`
  const ca = join(home, 'ca.pem')
  writeFileSync(ca, await (await fetch(plain + '/ca.pem')).text())
  const db = join(home, '.pki/nssdb')
  mkdirSync(db, { recursive: true })
  for (const args of [
    ['-N', '-d', 'sql:' + db, '--empty-password'],
    ['-A', '-d', 'sql:' + db, '-n', 'hub', '-t', 'C,,', '-i', ca],
  ]) {
    const r = spawnSync('certutil', args)
    if (r.status !== 0) throw new Error(String(r.stderr))
  }
  context = await chromium.launchPersistentContext(join(home, 'profile'), {
    executablePath: '/usr/bin/chromium',
    args: flags,
    viewport: phone,
    hasTouch: true,
    isMobile: true,
    env: { ...process.env, HOME: home } as Record<string, string>,
  })
})
afterAll(async () => {
  board?.disconnect()
  await context?.close()
  await hub.remove()
  rmSync(home, { recursive: true, force: true })
})

test.skipIf(!here)('over plain HTTP everything works, and what browsers forbid is said with its reason', async () => {
  const p = await context.newPage()
  await p.goto(plain)
  await signIn(p)
  const row = p.locator('[data-control="drying_room.heater"]')
  await row.getByRole('button', { name: 'On', exact: true }).tap()
  await until('confirmed', async () => /^on\b/.test(await row.locator('.state').innerText()))
  let answer = () => {}
  const held = new Promise<void>((done) => {
    answer = done
  })
  await p.route('**/api/v1/hub', async (r) => {
    await held
    await r.continue()
  })
  await p.goto(plain + '/settings')
  await p.getByText('The console came over plain HTTP.').waitFor()
  expect(await p.getByText('Start the hub with').count(), 'what it does not know yet').toBe(0)
  answer()
  await p.getByRole('link', { name: safe }).waitFor()
  const told = await p.getByRole('region', { name: 'This browser' }).innerText()
  for (const what of ['installing the console as an app', 'keeping a wall awake', 'copying by a button', safe]) expect(told).toContain(what)
  await p.close()
})

test.skipIf(!here)('over HTTPS it is a safe place: installed, there without the hub, and never old as if it were live', async () => {
  const p = await context.newPage()
  await p.goto(safe)
  await p.locator('#account, .bar').first().waitFor()
  if (await p.locator('#account').count()) await signIn(p) // else by the cookie: browsers keep it for the name, not for the port
  await p.goto(safe + '/settings')
  await p.getByText('It lets the console do everything').waitFor()
  expect(await p.evaluate(() => [window.isSecureContext, 'wakeLock' in navigator])).toEqual([true, true])
  await p.evaluate(async () => {
    await navigator.serviceWorker.ready
  })
  await p.goto(safe)
  await p.locator('[data-signal="drying_room.temperature"]', { hasText: '21' }).waitFor()
  await until('kept', () => p.evaluate(() => localStorage.getItem('last-seen') !== null))
  await until('the shell is kept', () => p.evaluate(async () => (await (await caches.open('shell-2')).keys()).length > 3))
  const manifest = await p.evaluate(async () => (await fetch(document.querySelector<HTMLLinkElement>('link[rel=manifest]')!.href)).json())
  expect(manifest.display).toBe('standalone')
  await hub.stop('SIGKILL')
  await p.reload()
  await p
    .getByText(/No hub|No connection to the hub/)
    .first()
    .waitFor({ timeout: 30_000 })
  expect(await p.locator('.link.live').count()).toBe(0)
  await hub.start()
  await until(
    'live again without a touch',
    async () => {
      await p
        .getByRole('button', { name: 'Try again' })
        .tap({ timeout: 1000 })
        .catch(() => undefined)
      return (await p.locator('.link.live').count()) === 1
    },
    40_000,
  )
  await p.close()
})

test.skipIf(!here)('a push is shown by the browser itself, and leads to its alert', async () => {
  await context.grantPermissions(['notifications'], { origin: safe })
  const p = await context.newPage()
  await p.goto(safe)
  await p.evaluate(async () => {
    await navigator.serviceWorker.ready
  })
  const cdp = await context.newCDPSession(p)
  let registration = '' // the newest one that is there
  cdp.on('ServiceWorker.workerRegistrationUpdated', (e) =>
    e.registrations.forEach((r) => {
      if (r.scopeURL.startsWith(safe) && !r.isDeleted) registration = r.registrationId
    }),
  )
  await cdp.send('ServiceWorker.enable')
  await until('the registration', () => registration !== '')
  const deliver = async (data: string) => cdp.send('ServiceWorker.deliverPushMessage', { origin: safe, registrationId: registration, data })
  const shown = () =>
    p.evaluate(async () =>
      (await (await navigator.serviceWorker.ready).getNotifications()).map((n) => [n.title, n.body, n.tag, n.data?.link]),
    )
  // What comes while the browser brings the worker up is dropped by it; a push service would send it again.
  // By its tag it is one message however often it comes.
  await until('the message', async () => {
    await deliver(
      JSON.stringify({
        title: 'Kiln: too hot',
        body: '1270 °C, above 1260',
        tag: 'kiln_hot',
        link: '/alerts?id=kiln_hot',
        severity: 'critical',
      }),
    )
    await sleep(1000)
    return (await shown()).length === 1
  })
  expect(await shown()).toEqual([['Kiln: too hot', '1270 °C, above 1260', 'kiln_hot', '/alerts?id=kiln_hot']])
  await deliver(JSON.stringify({ title: 'Kiln: over', tag: 'kiln_hot' }))
  await until('the newer one in its place', async () => (await shown())[0]?.[0] === 'Kiln: over')
  await deliver('no JSON')
  await until('what cannot be read', async () => (await shown()).some(([title]) => title === 'A message from the hub'))
  expect((await shown()).length).toBe(2)
  // A person taps it. A browser opens windows only then, so that is recorded instead.
  const worker = context.serviceWorkers().find((w) => w.url().startsWith(safe))!
  const led = await worker.evaluate(async () => {
    const me = self as unknown as { registration: ServiceWorkerRegistration; clients: { openWindow: (to: string) => Promise<null> } }
    let to = ''
    me.clients.openWindow = async (url) => {
      to = url
      return null
    }
    const [n] = await me.registration.getNotifications()
    const Event = (self as unknown as { NotificationEvent: new (kind: string, o: object) => Event }).NotificationEvent
    self.dispatchEvent(new Event('notificationclick', { notification: n }))
    return [to, (await me.registration.getNotifications()).length]
  })
  expect(led).toEqual(['/alerts', 1]) // the newer one named no link
  await p.close()
})
