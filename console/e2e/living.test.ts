import { afterEach, afterAll, beforeEach, expect, test } from 'vitest'
import type { Page } from 'playwright-core'
import { Board, browser, closeBrowser, Hub, overflow, page, password, phone, signIn, sleep, until } from './hub'

// What people live with: the first evening, a phone that slept, a network that went, very many signals, no mouse and no eyes.
let hub: Hub
beforeEach(async () => {
  hub = await new Hub().start()
})
afterEach(async () => {
  for (const c of (await browser()).contexts()) await c.close()
  await hub.remove()
})
afterAll(closeBrowser)

async function studio(): Promise<Board> {
  await hub.setUp()
  const board = new Board(hub, 'drying_room', await hub.device('drying_room')).connect()
  board.publish('is/heater', 'off')
  board.publish('r', '{"temperature":21.5,"humidity":55}')
  await until('signals', async () => (await hub.call<{ signals: unknown[] }>('GET', '/now')).signals.length === 2)
  return board
}
const temperature = (p: Page) => p.locator('.reading[data-signal="drying_room.temperature"] .value')

test('from an empty hub to the first switch on a phone takes few taps and fewer words', async () => {
  const { page: p, faults } = await page(hub.url, phone)
  let taps = 0
  let typed = 0
  const tap = async (name: string, role: 'button' | 'link' = 'button') => {
    taps++
    await p.getByRole(role, { name, exact: true }).first().tap()
  }
  const type = async (label: string, words: string) => {
    taps++
    typed++
    await p.getByLabel(label).tap()
    await p.keyboard.type(words)
  }
  await p.getByText('This hub has no owner yet').waitFor()
  await type('Setup code', hub.setupCode)
  await type('Your account', 'mo')
  await type('Password', password)
  await type('Name of this hub', 'Rowan Lane studio')
  await type('Latitude', '48.2')
  await type('Longitude', '16.4')
  await tap('Begin')
  await tap('Add a device', 'link')
  await type('What is it called?', 'Drying room')
  await type('Where is it?', 'Drying room')
  await tap('Add it')
  await p.getByText("Waiting for the device's first message").waitFor()
  const board = new Board(hub, 'drying_room', await p.locator('dl dd code').first().innerText()).connect()
  board.publish('is/heater', 'off')
  await p.getByText('The first message arrived:').waitFor()
  await tap('Now', 'link')
  await tap('On')
  await until('the first switch is on', async () => /^on\b/.test(await p.locator('[data-control="drying_room.heater"] .state').innerText()))
  console.log(`${taps} taps, ${typed} typed fields`)
  expect(taps).toBeLessThanOrEqual(25)
  expect(typed).toBeLessThanOrEqual(8)
  expect(faults).toEqual([])
})

test('a hub that was silent, and a page that was frozen, catch up without a reload', async () => {
  const board = await studio()
  const { page: p } = await page(hub.url, phone)
  await signIn(p)
  await temperature(p).filter({ hasText: '21.5' }).waitFor()
  await p.evaluate(() => {
    ;(window as unknown as { kept: number }).kept = 7
  })
  hub.signal('SIGSTOP')
  await p.getByText('No connection to the hub for').waitFor({ timeout: 40_000 })
  await p.locator('[data-control="drying_room.heater"]').getByRole('button', { name: 'On', exact: true }).tap({ force: true })
  expect(await p.locator('.link.live').count()).toBe(0)
  hub.signal('SIGCONT')
  board.publish('r/temperature', '23.5')
  await temperature(p).filter({ hasText: '23.5' }).waitFor({ timeout: 30_000 })
  await until('live', async () => (await p.locator('.link.live').count()) === 1)

  const cdp = await p.context().newCDPSession(p)
  await cdp.send('Page.enable')
  await cdp.send('Page.setWebLifecycleState', { state: 'frozen' })
  board.publish('r/temperature', '24.5')
  await sleep(2000)
  await cdp.send('Page.setWebLifecycleState', { state: 'active' })
  await temperature(p).filter({ hasText: '24.5' }).waitFor({ timeout: 30_000 })
  expect(await p.evaluate(() => (window as unknown as { kept: number }).kept)).toBe(7)
})

test('live readings are appended to an open chart, and stay on it when it is asked for anew', async () => {
  const board = await studio()
  const push = (n: number) =>
    fetch(`${hub.url}/push/drying_room`, {
      method: 'POST',
      headers: { Authorization: `Bearer ${board.key}`, 'Content-Type': 'application/json' },
      body: JSON.stringify({ boards: n }),
    })
  await push(1)
  const { page: p } = await page(hub.url)
  await signIn(p)
  await p.goto(hub.url + '/charts?s=drying_room.boards,drying_room.heater.is&span=3600000')
  await p.getByText('every reading').waitFor()
  // Every value that the figures pass through, not only those at which somebody looks.
  await p.evaluate(() => {
    const said: number[] = ((window as unknown as { said: number[] }).said = [])
    new MutationObserver(() => said.push(Number(document.querySelector('.figures tbody td:nth-child(2)')!.textContent))).observe(
      document.querySelector('.figures')!,
      { childList: true, subtree: true, characterData: true },
    )
  })
  let loads = 0
  p.on('request', (r) => {
    if (r.url().includes('/history?')) loads++
  })
  for (let n = 2; n <= 24; n++) {
    await push(n)
    if (n % 6 === 0) await hub.call('PUT', '/controls/drying_room.heater/want', { to: n % 12 !== 0 })
    await sleep(200)
  }
  const said = () => p.evaluate(() => (window as unknown as { said: number[] }).said)
  await until('the last', async () => (await said()).at(-1) === 24)
  expect(loads, 'a switch on the chart is asked for at once').toBeGreaterThanOrEqual(3)
  expect(await said(), 'none vanished again').toEqual([...(await said())].sort((a, b) => a - b))
  await until('the last switch is drawn', async () => {
    const before = loads
    await sleep(1000)
    return loads === before
  })
  loads = 0
  const yard = new Board(hub, 'yard', await hub.device('yard', 'Yard')).connect()
  for (const is of ['on', 'off', 'on']) {
    yard.publish('is/lamp', is)
    await sleep(500)
  }
  yard.disconnect()
  expect(loads, 'what is elsewhere does not matter').toBeLessThan(2)
})

test('a chart that is on its way says so, and one that did not come claims nothing', async () => {
  await studio()
  const { page: p } = await page(hub.url, phone)
  await signIn(p)
  let answer = () => {}
  const held = new Promise<void>((done) => {
    answer = done
  })
  await p.route('**/api/v1/history?*', async (r) => {
    await held
    await r.continue()
  })
  await p.goto(hub.url + '/charts?s=drying_room.temperature,drying_room.heater.is&span=3600000')
  await p.getByText('Drawing …').waitFor()
  expect(await p.getByText('every reading').count()).toBe(0)
  answer()
  await p.locator('.u-over').waitFor()
  await p.getByText('every reading').waitFor()
  expect(await p.getByText('Drawing …').count()).toBe(0)
  await p.unrouteAll({ behavior: 'ignoreErrors' })
  let asked = 0
  let fails = true // until the page has said so: it may begin to draw twice
  await p.route('**/api/v1/history?*', (r) => {
    asked++
    return fails ? r.abort() : undefined
  })
  await p.reload()
  const claims = p.getByText(/No readings|every reading|Drawing/)
  await p.locator('.note.bad').waitFor()
  fails = false
  asked = 0
  expect(await claims.count()).toBe(0)
  await sleep(2500)
  expect(asked, 'who does not answer is not asked each second').toBeLessThan(2)
  await hub.call('PUT', '/controls/drying_room.heater/want', { to: true })
  await until('asked again', async () => asked > 0)
  expect(await p.locator('.note.bad').count(), 'the failure stands until there is an answer').toBe(1)
  expect(await claims.count()).toBe(0)
})

test('a thousand signals that change every second leave the page at one’s service', async () => {
  await hub.setUp()
  const names = Array.from({ length: 50 }, (_, i) => `s${i}`)
  const keys: [string, string][] = []
  for (let d = 0; d < 20; d++)
    keys.push([
      `board${d}`,
      (await hub.call<{ key: string }>('POST', '/devices', { id: `board${d}`, name: `Board ${d}`, place: `Shelf ${d % 5}` })).key,
    ])
  let n = 0
  const push = () =>
    Promise.all(
      keys.map(([id, key]) =>
        fetch(`${hub.url}/push/${id}`, {
          method: 'POST',
          headers: { Authorization: `Bearer ${key}`, 'Content-Type': 'application/json' },
          body: JSON.stringify(Object.fromEntries(names.map((s, i) => [s, n + i]))),
        }).then((r) => {
          if (!r.ok) throw new Error(`push: ${r.status}`)
        }),
      ),
    )
  await push()
  const { page: p, faults } = await page(hub.url)
  await signIn(p)
  await until('all of them', async () => (await p.locator('.reading[data-signal]').count()) === 1000, 30_000)
  let last = Promise.resolve<unknown>(0)
  const busy = setInterval(() => {
    n++
    last = push()
  }, 1000)
  await sleep(4000)
  // The page answers, and what it shows is of now.
  await p.getByLabel('Search').fill('Shelf 3')
  await until('one place', async () => (await p.locator('section.place').count()) === 1)
  await until('the newest', async () => Number(await p.locator('.reading[data-signal="board3.s7"] .value').innerText()) >= n + 7 - 1)
  clearInterval(busy)
  await last
  await until('the last', async () => Number(await p.locator('.reading[data-signal="board3.s7"] .value').innerText()) === n + 7)
  expect(faults).toEqual([])
})

test('by keys alone, twice as large, told politely, and still where stillness is wished for', async () => {
  const board = await studio()
  const { page: p, context } = await page(hub.url)
  await p.emulateMedia({ reducedMotion: 'reduce' })
  await p.locator('#account').waitFor()
  for (let i = 0; i < 5 && (await p.evaluate(() => document.activeElement?.id)) !== 'account'; i++) await p.keyboard.press('Tab')
  await p.keyboard.type('mo')
  await p.keyboard.press('Tab')
  await p.keyboard.type(password)
  await p.keyboard.press('Enter')
  await temperature(p).waitFor()
  const focused = () =>
    p.evaluate(() => {
      const e = document.activeElement as HTMLElement
      return e.closest('[data-control]') ? e.innerText : ''
    })
  for (let i = 0; i < 60 && (await focused()) !== 'On'; i++) await p.keyboard.press('Tab')
  board.mute = true
  await p.keyboard.press('Enter')
  const row = p.locator('[data-control="drying_room.heater"]')
  await until('pending', async () => (await row.locator('.state').innerText()) === 'waiting for the board')
  expect(await p.evaluate(() => document.getAnimations().filter((a) => a.playState === 'running').length)).toBe(0)
  expect(await row.locator('.state').getAttribute('role')).toBe('status')
  board.publish('is/heater', 'on')
  await until('confirmed', async () => /^on\b/.test(await row.locator('.state').innerText()))
  await p.locator('.reading[data-signal="drying_room.temperature"]').focus()
  board.publish('r/temperature', '25.0')
  await p.locator('[aria-live=polite]', { hasText: 'Temperature 25.0 °C' }).waitFor({ state: 'attached' })

  await p.goto(hub.url + '/charts?s=drying_room.temperature,drying_room.heater.is&span=3600000')
  await p.getByText('As a table').click()
  const cells = p.getByRole('region', { name: 'as a table' })
  await until('its readings', async () => /25\.0\s+on/.test(await cells.innerText()))
  // 200 %: half as many pixels of twice the size.
  const large = await context
    .browser()!
    .newContext({ viewport: { width: 640, height: 400 }, deviceScaleFactor: 2, storageState: await context.storageState() })
  const q = await large.newPage()
  for (const path of ['/', '/charts?s=drying_room.temperature', '/dashboards', '/devices', '/settings', '/household']) {
    await q.goto(hub.url + path)
    await q.locator('main').first().waitFor()
    await q.waitForTimeout(300)
    expect(await overflow(q), path).toBeLessThanOrEqual(0)
  }
})

test('an empty page says what goes there, and has the button for it', async () => {
  await hub.setUp()
  const { page: p } = await page(hub.url)
  await signIn(p)
  for (const [path, says, button] of [
    ['/', 'Nothing here yet', 'Add a device'],
    ['/dashboards', 'No dashboard yet', 'Make it'],
    ['/charts', 'There is nothing yet', 'Add a device'],
    ['/devices', 'No device yet', 'Add a device'],
    ['/control', 'There is nothing to control yet', 'Add a device'],
    ['/household', 'Mo', 'Add a person'],
  ] as const) {
    await p.goto(hub.url + path)
    if (says) await p.getByText(says).first().waitFor()
    if (button)
      await p
        .locator('main')
        .getByRole('button', { name: button })
        .or(p.locator('main').getByRole('link', { name: button }))
        .first()
        .waitFor()
  }
})

test('a page whose questions the hub does not answer claims nothing', async () => {
  const board = await studio()
  board.disconnect()
  const { page: p, faults } = await page(hub.url)
  await signIn(p)
  await temperature(p).waitFor()
  const asked = new Set<string>()
  await p.route(/\/api\/v1\/(?!live|now|me\b|preferences)/, (r) => {
    asked.add(new URL(r.request().url()).pathname)
    return r.abort()
  })
  for (const path of [
    '/charts?s=drying_room.temperature',
    '/signals/drying_room.temperature',
    '/places/drying_room',
    '/alerts',
    '/control',
    '/devices/drying_room',
    '/dashboards',
    '/journal',
    '/household',
    '/settings',
    '/models',
    '/digest',
  ]) {
    asked.clear()
    await p.goto(hub.url + path)
    await p.locator('main').first().waitFor()
    await until(path + ' asked', () => asked.size > 0)
    await p.waitForTimeout(400)
    expect(
      (await p.locator('main').innerText()).match(
        /.*(\bNothing (is (planned|noted)|has happened|yet|was)|\bNo \w+ yet|There is no|Nobody yet).*/g,
      ),
      path,
    ).toBeNull()
  }
  expect(faults).toEqual([])
})

test('what was seen last is there before the console, and the values of now where nothing was', async () => {
  await studio()
  const { page: p, context } = await page(hub.url)
  await signIn(p)
  await temperature(p).waitFor()
  await p.evaluate(() => localStorage.clear())
  const q = await (await (await browser()).newContext({ storageState: await context.storageState(), serviceWorkers: 'block' })).newPage()
  // The console's own script does not come (nor out of the worker's store): what stands there is the first view.
  await q.route('**/assets/base-*.js', (r) => r.abort())
  await q.addInitScript(() => localStorage.clear())
  await q.goto(hub.url)
  await q.locator('.first .reading', { hasText: 'Temperature' }).getByText('21.5 °C').waitFor()
  await q.close()
  await p.reload()
  await temperature(p).waitFor()
  await until('kept', () => p.evaluate(() => localStorage.getItem('first-view') !== null))
  const state = await context.storageState()
  const item = state.origins[0]!.localStorage.find((x) => x.name === 'first-view')!
  item.value = JSON.stringify({ ...JSON.parse(item.value), at: Date.now() - 20 * 60_000 })
  const old = await (await (await browser()).newContext({ storageState: state, serviceWorkers: 'block' })).newPage()
  await old.route('**/assets/base-*.js', (r) => r.abort())
  await old.goto(hub.url)
  await old.getByText('as it was 20 min ago').waitFor()
})
