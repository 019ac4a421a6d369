import { createHmac } from 'node:crypto'
import { afterAll, afterEach, beforeEach, expect, test } from 'vitest'
import { Board, browser, closeBrowser, Hub, overflow, page, password, phone, signIn, sleep, until } from './hub'

let hub: Hub
beforeEach(async () => {
  hub = await new Hub().start()
})
afterEach(async () => {
  for (const c of (await browser()).contexts()) await c.close()
  await hub.remove()
})
afterAll(closeBrowser)

test('from the first start to a switch that is confirmed', async () => {
  const { page: p, faults } = await page(hub.url)
  await p.getByText('This hub has no owner yet').waitFor()
  expect(await p.getByText('idleember serve --http :8480').isVisible()).toBe(true)
  await p.getByLabel('Setup code').fill('aaaa-bbbb-cccc')
  await p.getByLabel('Your account').fill('mo')
  await p.getByLabel('Password').fill(password)
  await p.getByLabel('Name of this hub').fill('Rowan Lane studio')
  await p.getByLabel('Time zone').selectOption('Europe/Vienna')
  await p.getByLabel('Latitude').fill('48.2')
  await p.getByLabel('Longitude').fill('16.4')
  await p.getByRole('button', { name: 'Begin' }).click()
  await p.getByText('The setup code is wrong').waitFor()
  await p.getByLabel('Setup code').fill(hub.setupCode)
  await p.getByRole('button', { name: 'Begin' }).click()

  await p.getByText('Nothing here yet').waitFor()
  await p.getByRole('link', { name: 'Add a device' }).click()
  await p.getByLabel('What is it called?').fill('Drying room')
  await p.getByLabel('Where is it?').fill('Drying room')
  await p.getByRole('button', { name: 'Add it' }).click()
  await p.getByText("Waiting for the device's first message").waitFor()
  const key = await p.locator('dl dd code').first().innerText()
  const board = new Board(hub, 'drying_room', key).connect()
  board.publish('r', '{"temperature":21.4,"humidity":58}')
  await p.getByText('The first message arrived:').waitFor()
  board.publish('is/heater', 'off')

  await p.getByRole('link', { name: 'Now', exact: true }).first().click()
  const temperature = p.locator('[data-signal="drying_room.temperature"] .value')
  await until('the value', async () => (await temperature.innerText()) === '21.4 °C')
  board.publish('r/temperature', '22.6')
  await until('the live change', async () => (await temperature.innerText()) === '22.6 °C')
  expect(await p.locator('.headline').innerText()).toContain('22.6 °C')

  const row = p.locator('[data-control="drying_room.heater"]')
  const state = row.locator('.state')
  board.mute = true
  await row.getByRole('button', { name: 'On', exact: true }).click()
  await until('pending', async () => (await state.innerText()) === 'waiting for the board')
  expect(await row.locator('.lamp .turning').count()).toBe(1)
  await until('unconfirmed', async () => (await state.innerText()) === 'not confirmed')
  await p
    .locator('.attention')
    .getByText(/^not confirmed/)
    .waitFor()
  board.publish('is/heater', 'on')
  await until('confirmed', async () => /^on\b/.test(await state.innerText()))
  board.publish('is/heater', 'off') // another session than the last report's: the hub insists
  board.mute = false
  await until('sent again', async () => board.heard.filter((x) => x.endsWith('want/heater on')).length > 1)
  board.publish('is/heater', '{"v":"off","by":"hand"}')
  await until('the change at the board shows', async () => (await state.innerText()) === 'off')
  await p.getByText('Switched off at the board.').waitFor()
  await p.getByRole('link', { name: 'Journal' }).first().click()
  await p.getByText('switched at the board').first().waitFor()
  expect(faults).toEqual([])
})

test('signing in and out', async () => {
  await hub.setUp()
  const { page: p, context } = await page(hub.url, phone)
  await p.fill('#account', 'mo')
  await p.fill('#password', 'not the password')
  await p.getByRole('button', { name: 'Sign in' }).click()
  await p.getByText('The account or the password is wrong.').waitFor()
  await signIn(p)
  const cookies = await context.cookies()
  expect(cookies.map((c) => [c.name, c.httpOnly, c.sameSite])).toEqual([['ember_session', true, 'Strict']])
  await p.getByRole('button', { name: 'More' }).click()
  await p.getByRole('button', { name: 'Sign out' }).click()
  await p.getByLabel('Account').waitFor()
  expect(await p.evaluate(() => [localStorage.getItem('last-seen'), localStorage.getItem('first-view')])).toEqual([null, null])
  await context.addCookies(cookies)
  await p.reload()
  await p.getByLabel('Account').waitFor()
})

test('stale, offline and a lost hub look like what they are', async () => {
  await hub.setUp()
  const key = await hub.device('drying_room')
  const board = new Board(hub, 'drying_room', key).connect()
  board.publish('r', '{"temperature":21.4}')
  board.publish('is/heater', 'off')
  const { page: p } = await page(hub.url, phone)
  await signIn(p)
  const cell = p.locator('[data-signal="drying_room.temperature"]')
  await cell.waitFor()
  expect(await cell.getAttribute('class')).not.toContain('old')
  board.disconnect()
  await p.getByText(/Drying room offline for/).waitFor({ timeout: 20_000 })
  await until('stale', async () => (await cell.getAttribute('class'))!.includes('old'))
  expect(await cell.locator('.age').innerText()).toMatch(/\d+ s old/)
  const row = p.locator('[data-control="drying_room.heater"]')
  await row.getByRole('button', { name: 'On', exact: true }).click()
  await until('the board is awaited', async () => (await row.locator('.state').innerText()).includes('waits for the board to come back'))

  await hub.stop('SIGKILL')
  await p.getByText(/No connection to the hub/).waitFor()
  await row.getByRole('button', { name: 'Off', exact: true }).click({ force: true })
  await p.getByText('No connection to the hub.', { exact: true }).waitFor()
  expect(await cell.locator('.value').innerText()).toBe('21.4 °C')
  // Without the hub the shell is there all the same, says so, and shows nothing as live.
  const { page: q } = await page('about:blank', phone)
  await hub.start()
  await q.goto(hub.url)
  await q.evaluate(() => navigator.serviceWorker.ready.then(() => undefined))
  await hub.stop('SIGKILL')
  await q.reload()
  await q.getByText('The hub does not answer').waitFor()
  await hub.start()
  await q.getByRole('button', { name: 'Try again' }).click()
  await q.locator('#account').waitFor()
  await until('live again, without a reload', async () => (await p.locator('.link').innerText()) === 'live', 20_000)
  new Board(hub, 'drying_room', key).connect()
  await until('the want was kept over the kill', async () => /^on\b/.test(await row.locator('.state').innerText()))
})

test('two people see each other, a guest sees what was opened', async () => {
  await hub.setUp()
  const key = await hub.device('drying_room')
  const board = new Board(hub, 'drying_room', key).connect()
  board.publish('r', '{"temperature":21.4,"humidity":58}')
  board.publish('is/heater', 'off')
  await hub.call('PATCH', '/signals/drying_room.temperature', { guests: 'see' })
  const mo = (await page(hub.url)).page
  await signIn(mo)
  await mo.getByRole('link', { name: 'Household' }).first().click()
  for (const [name, role] of [
    ['Kim', 'member'],
    ['Visitor', 'guest'],
  ] as const) {
    await mo.getByRole('button', { name: 'Add a person' }).click()
    await mo.getByLabel('Name').fill(name)
    await mo.getByLabel('Account').fill(name.toLowerCase())
    await mo.getByLabel('Role', { exact: true }).selectOption(role)
    await mo.getByLabel('First password').fill(password)
    await mo.getByRole('button', { name: 'Add', exact: true }).click()
    await mo.getByText(name, { exact: true }).waitFor()
  }
  const kim = (await page(hub.url, phone)).page
  await signIn(kim, 'kim')
  await mo.goto(hub.url)
  await kim.locator('[data-control="drying_room.heater"]').getByRole('button', { name: 'On', exact: true }).click()
  await until('mo sees it', async () => /^on\b/.test(await mo.locator('[data-control="drying_room.heater"] .state').innerText()))
  expect(await mo.getByText('Switched on by Kim.').isVisible()).toBe(true)
  expect(await kim.getByRole('link', { name: 'Household' }).count()).toBe(0)

  await mo.goto(hub.url + '/household')
  // Kim forgot the password: a link by which a new one is set, once.
  await mo.getByRole('button', { name: 'More about Kim' }).click()
  await mo.getByRole('button', { name: 'New password' }).click()
  await mo.getByRole('button', { name: 'Make the link' }).click()
  const link = await mo.locator('.made code').innerText()
  expect(link).toContain('/join#join_')
  expect(await mo.locator('.made img').evaluate((i: HTMLImageElement) => i.naturalWidth)).toBeGreaterThan(100)
  const elsewhere = (await page(hub.url, phone)).page
  await elsewhere.goto(link)
  await elsewhere.getByText('A new password for Kim (kim).').waitFor()
  await elsewhere.getByLabel('Password').fill('another long password')
  await elsewhere.getByRole('button', { name: 'Set it and sign in' }).click()
  await elsewhere.locator('[data-control="drying_room.heater"]').waitFor()
  await kim.getByLabel('Account').waitFor() // signed out everywhere, at once
  await signIn(kim, 'kim', 'another long password')
  // The heater is for owners from now on; Kim sees it locked, and says why.
  await mo.getByRole('button', { name: 'Done' }).click()
  await mo.getByRole('button', { name: 'Add a line' }).click()
  await mo.getByLabel('Who', { exact: true }).selectOption('members')
  await mo.locator('[data-thing="drying_room.heater"]').click()
  await mo.getByText('every member may see Heater').waitFor()
  const heater = kim.locator('[data-control="drying_room.heater"]')
  await heater.locator('button[aria-disabled=true]').first().waitFor()
  await heater.getByRole('button', { name: 'Off', exact: true }).click({ force: true })
  await heater.getByText('You may look at this, not switch it').waitFor()
  // What was changed is found, and brought back.
  await mo.goto(hub.url + '/journal')
  await mo.getByLabel('Words').fill('rights')
  await mo.getByRole('button', { name: /^Bring back hub.rights/ }).click()
  await mo.getByText('hub.rights is as it was').waitFor()
  await heater.locator('button[aria-disabled=false]').first().waitFor()
  await heater.getByRole('button', { name: 'Off', exact: true }).click()
  await until('it switches again', async () => /^off\b/.test(await heater.locator('.state').innerText()))
  // All lines of one thing; and whoever reads far down is not thrown to the top by what happens meanwhile.
  await mo.getByLabel('Words').fill('')
  await mo.getByLabel('Of', { exact: true }).fill('hub.rights')
  await until(
    'lines of it alone',
    async () =>
      (await mo.locator('tbody tr').count()) === (await mo.locator('tbody tr', { hasText: 'hub.rights' }).count()) &&
      (await mo.locator('tbody tr').count()) > 1,
  )
  for (let i = 0; i < 70; i++)
    await hub.call('PATCH', '/signals/drying_room.temperature', { name: `Temperature ${i % 2 ? '' : 'inside'}`.trim() })
  await mo.getByLabel('Of', { exact: true }).fill('')
  await mo.getByRole('button', { name: 'Earlier' }).click()
  await until('two pages', async () => (await mo.locator('tbody tr').count()) > 60)
  await heater.getByRole('button', { name: 'On', exact: true }).click()
  await mo.getByText('There are newer lines.').waitFor()
  expect(await mo.locator('tbody tr').count()).toBeGreaterThan(60)
  await mo.getByRole('button', { name: 'Show them' }).click()
  await mo.locator('tbody tr').first().getByRole('button', { name: 'drying_room.heater' }).click()
  await until(
    'its lines',
    async () => (await mo.locator('tbody tr').count()) === (await mo.locator('tbody tr', { hasText: 'drying_room.heater' }).count()),
  )

  const guest = (await page(hub.url, phone)).page
  await signIn(guest, 'visitor')
  await guest.locator('[data-signal="drying_room.temperature"]').waitFor()
  expect(await guest.locator('[data-signal], [data-control]').count()).toBe(1)
  expect(await guest.getByRole('link', { name: 'Journal' }).count()).toBe(0)
})

test('a dangerous switch asks first', async () => {
  await hub.setUp()
  const board = new Board(hub, 'drying_room', await hub.device('drying_room')).connect()
  board.publish('is/heater', 'off')
  await hub.call('PATCH', '/controls/drying_room.heater', { dangerous: true })
  const { page: p } = await page(hub.url)
  await signIn(p)
  const row = p.locator('[data-control="drying_room.heater"]')
  await row.getByRole('button', { name: 'On', exact: true }).click()
  await p.getByText('Switch Heater on?').waitFor()
  await p.getByRole('button', { name: 'Leave it off' }).click()
  await sleep(300)
  expect(board.heard.join()).not.toContain('want/heater')
  await row.getByRole('button', { name: 'On', exact: true }).click()
  await p.getByRole('button', { name: 'Switch on' }).click()
  await until('on', async () => /^on\b/.test(await row.locator('.state').innerText()))
})

test('what was refused shows on the page of its device', async () => {
  await hub.setUp()
  const key = await hub.device('drying_room')
  const board = new Board(hub, 'drying_room', key)
  board.publish('r/temperature', '21.4')
  board.publish('r/temperature', 'NaN')
  board.publish('r/label', '<img src=x onerror=alert(1)>')
  const { page: p, faults } = await page(hub.url, phone)
  await signIn(p)
  await until('text is shown as text', async () =>
    (await p.locator('[data-signal="drying_room.label"] .value').innerText()).includes('<img'),
  )
  await p.goto(hub.url + '/devices/drying_room')
  await p.getByText('is not finite').first().waitFor()
  expect(await p.getByText('NaN', { exact: true }).first().isVisible()).toBe(true)
  await p.getByLabel('Unit').first().fill('°F')
  await p.getByRole('button', { name: 'New board' }).click()
  await p.getByText('The old key is void at once').waitFor()
  await p.locator('.modal').getByRole('button', { name: 'New key' }).click()
  await p.getByText('Drying room: connect its board').waitFor()
  expect(() => board.publish('r/temperature', '1')).toThrow(/bad user name or password/)
  expect(faults).toEqual([])
  expect(await overflow(p)).toBeLessThanOrEqual(0)
})

test('names are words, whatever they hold', async () => {
  await hub.setUp()
  const evil = '<img src=x onerror=pwned=1>'
  const key = (await hub.call<{ key: string }>('POST', '/devices', { id: 'kiln', name: evil, place: evil + '2' })).key
  const board = new Board(hub, 'kiln', key).connect()
  board.publish('r', JSON.stringify({ chamber: 412, words: `"><script>pwned=1</script>${evil}` }))
  board.publish('is/fan', 'off')
  board.publish('r/<svg onload=pwned=1>', '1') // as a name it is refused, and shown as that
  await until('all', async () => (await hub.call<{ signals: unknown[]; controls: unknown[] }>('GET', '/now')).controls.length === 1)
  await hub.call('PATCH', '/signals/kiln.chamber', { name: evil, unit: '<b>Cel</b>' })
  await hub.call('PATCH', '/controls/kiln.fan', { name: evil })
  await hub.call('POST', '/notes', { object: 'kiln', text: evil, at: new Date().toISOString() })
  await hub.call('POST', '/alerts', {
    id: 'hot',
    name: evil,
    kind: 'above',
    of: 'kiln.chamber',
    limit: 1,
    severity: 'critical',
    text: evil,
  })
  await hub.call('POST', '/presets', { id: 'night', name: evil, actions: [{ kind: 'control', id: 'kiln.fan', to: 1 }] })
  await hub.call('POST', '/dashboards', {
    id: 'door',
    name: evil,
    tiles: [{ id: 'a', kind: 'value', of: ['kiln.chamber'], name: evil, x: 0, y: 0, w: 3, h: 2 }],
  })
  await hub.call('POST', '/members', { account: 'kim', name: evil, role: 'member', password })
  const { page: p } = await page(hub.url)
  await signIn(p)
  let shown = 0
  for (const path of [
    '/',
    '/devices',
    '/devices/kiln',
    '/signals/kiln.chamber',
    '/charts?s=kiln.chamber,kiln.words,kiln.fan.is',
    '/alerts',
    '/control',
    '/dashboards',
    '/dashboards/door',
    '/journal',
    '/household',
    '/settings',
    '/digest',
    '/join#<img src=x onerror=pwned=1>',
    `/charts?s=${encodeURIComponent(evil)}`,
    `/devices/${encodeURIComponent(evil)}`,
  ]) {
    await p.goto(hub.url + path)
    await p.locator('h1, .headline').first().waitFor()
    await p.waitForTimeout(400)
    expect(await p.evaluate(() => ['pwned' in window, document.querySelectorAll('img[src=x], svg[onload]').length]), path).toEqual([
      false,
      0,
    ])
    if ((await p.locator('body').innerText()).includes(evil)) shown++
  }
  expect(shown).toBeGreaterThan(8)
})

/** The code that an app shows for a secret now (RFC 6238). */
function codeOf(secret: string, at = Date.now()): string {
  const bits = [...secret].map((c) => 'ABCDEFGHIJKLMNOPQRSTUVWXYZ234567'.indexOf(c).toString(2).padStart(5, '0')).join('')
  const key = Buffer.from(bits.match(/.{8}/g)!.map((b) => parseInt(b, 2)))
  const counter = Buffer.alloc(8)
  counter.writeBigUInt64BE(BigInt(Math.floor(at / 30_000)))
  const sum = createHmac('sha1', key).update(counter).digest()
  return String((sum.readUInt32BE(sum[19]! & 15) & 0x7fffffff) % 1_000_000).padStart(6, '0')
}

test('somebody new comes by a link, adds a second factor, and makes a token for a script', async () => {
  await hub.setUp()
  const mo = (await page(hub.url)).page
  await signIn(mo)
  await mo.goto(hub.url + '/household')
  await mo.getByRole('button', { name: 'Invite' }).click()
  await mo.getByLabel('As', { exact: true }).selectOption('member')
  await mo.getByRole('button', { name: 'Make the link' }).click()
  const link = await mo.locator('.made code').innerText()
  const { page: p } = await page(hub.url, phone)
  await p.goto(link)
  await p.getByText('invites you to this house as a member').waitFor()
  await p.getByLabel('Your name').fill('Ada')
  await p.getByLabel('Account').fill('ada')
  await p.getByLabel('Password').fill('short')
  await p.getByRole('button', { name: 'Join' }).click()
  await p.getByText(/use at least 12/).waitFor()
  await p.getByLabel('Password').fill(password)
  await p.getByRole('button', { name: 'Join' }).click()
  await p.locator('.bar').waitFor()
  const late = (await page(hub.url, phone)).page
  await late.goto(link)
  await late.getByText('This invitation was used, taken back or has ended').waitFor()

  await p.goto(hub.url + '/settings')
  const card = p.getByRole('region', { name: 'Signing in' })
  await card.getByRole('button', { name: 'Make a token for a script' }).click()
  await card.getByLabel('Name').fill('the display in the hall')
  await card.getByRole('button', { name: 'Make it' }).click()
  const token = await card.locator('code').innerText()
  expect((await fetch(hub.url + '/api/v1/now', { headers: { Authorization: `Bearer ${token}` } })).status).toBe(200)
  expect(
    (
      await fetch(hub.url + '/api/v1/places', {
        method: 'POST',
        headers: { Authorization: `Bearer ${token}`, 'Content-Type': 'application/json' },
        body: '{"name":"Attic"}',
      })
    ).status,
  ).toBe(403)
  await card.getByRole('button', { name: 'I have it' }).click()
  await card.getByRole('button', { name: 'End the token the display in the hall' }).click()
  await until('ended', async () => (await fetch(hub.url + '/api/v1/now', { headers: { Authorization: `Bearer ${token}` } })).status === 401)

  await card.getByRole('button', { name: 'Add a second factor' }).click()
  await card.getByLabel('Your password').fill(password)
  await card.getByRole('button', { name: 'Go on' }).click()
  const secret = await card.locator('.offer code').innerText()
  await card.getByLabel('Code that the app shows now').fill(codeOf(secret, Date.now() - 30_000))
  await card.getByRole('button', { name: 'Put it in force' }).click()
  const codes = (await card.locator('.codes').innerText()).trim().split(/\s+/)
  expect(codes.length).toBe(8)
  await card.getByRole('button', { name: 'I have them' }).click()
  await card.getByRole('button', { name: 'Sign out everywhere' }).click()
  await p.getByLabel('Account').fill('ada')
  await p.getByLabel('Password').fill(password)
  await p.getByRole('button', { name: 'Sign in' }).click()
  await p.getByLabel('Code of your second factor').fill('000000')
  await p.getByRole('button', { name: 'Sign in' }).click()
  await p.getByText('This code is not right').waitFor()
  await p.getByLabel('Code of your second factor').fill(codeOf(secret))
  await p.getByRole('button', { name: 'Sign in' }).click()
  await p.locator('.bar').waitFor() // A new password by a link does not go round the factor.
  await mo.getByRole('button', { name: 'Done' }).click()
  await mo.goto(hub.url + '/household')
  await mo.getByRole('button', { name: 'More about Ada' }).click()
  await mo.getByRole('button', { name: 'New password' }).click()
  await mo.getByRole('button', { name: 'Make the link' }).click()
  await late.goto('about:blank')
  await late.goto(await mo.locator('.made code').innerText())
  await late.getByLabel('Password').fill('another long password')
  await late.getByRole('button', { name: 'Set it and sign in' }).click()
  await late.getByText('The password is set.').waitFor()
  await late.getByRole('link', { name: 'Sign in' }).click()
  await late.getByLabel('Account').waitFor()
})

test('who lets somebody in gives the password again when it was given long ago', async () => {
  await hub.setUp()
  const { page: p } = await page(hub.url)
  await signIn(p)
  await hub.stop()
  await hub.start() // what was given before is not known any more
  await p.goto(hub.url + '/household')
  await p.getByRole('button', { name: 'Invite' }).click()
  await p.getByRole('button', { name: 'Make the link' }).click()
  const asks = p.getByRole('dialog', { name: 'Your password, please' })
  await asks.getByLabel('Password').fill('not this one')
  await asks.getByRole('button', { name: 'Go on' }).click()
  await asks.getByText('The password is wrong').waitFor()
  await asks.getByRole('button', { name: 'Cancel' }).click()
  await p.getByText('Enter your password again').waitFor()
  await p.getByRole('button', { name: 'Make the link' }).click()
  await asks.locator('input:focus').waitFor() // the dialog takes the focus once it stands
  await p.keyboard.type(password)
  await p.keyboard.press('Enter')
  await p.locator('.made code').waitFor()
  expect(await asks.count()).toBe(0)
})

test('one page too many says so, and is live when another one is closed', async () => {
  await hub.setUp()
  const { page: p, context } = await page(hub.url)
  await signIn(p)
  const cookie = (await context.cookies()).map((c) => `${c.name}=${c.value}`).join('; ')
  const others = Array.from({ length: 40 }, () => new AbortController())
  await p.goto('about:blank')
  // The answers are kept: a stream that nobody holds is closed when memory is swept.
  const answers = await Promise.all(others.map((o) => fetch(hub.url + '/api/v1/live', { headers: { Cookie: cookie }, signal: o.signal })))
  expect(answers.filter((r) => r.ok).length).toBeGreaterThanOrEqual(31) // the page that was left may still hold one
  await p.goto(hub.url + '/')
  await p.getByText('32 live streams are open with this session or token; close some pages').waitFor()
  others.forEach((o) => o.abort())
  await until('it is live', async () => (await p.getByText('This page is not live').count()) === 0)
})

test('a clock that is not believed is told, and the owner can say that it is right', async () => {
  await hub.setUp()
  const { page: p } = await page(hub.url)
  // No test can put a computer's clock back: what the hub says of it at first is put into its answers.
  const doubt =
    "the computer's clock is behind what was stored before: it shows 1 Jan 2026 01:00, and the hub goes by 2 Jan 2026 03:00; schedules wait until it is set"
  const before = /api\/v1\/live\?/
  await p.route(before, async (r) => {
    const snap = await (await p.request.get(hub.url + '/api/v1/now')).json()
    snap.hub.clock_doubt = doubt
    await r.fulfill({ contentType: 'text/event-stream', body: `event: reset\ndata: ${JSON.stringify(snap)}\n\n` })
  })
  await signIn(p)
  const told = p.getByRole('alert').filter({ hasText: 'Times are not certain' })
  await until('it is told', async () => (await told.innerText()).includes(doubt))
  await told.getByRole('button', { name: 'What does it show now?' }).click()
  await until('what it shows', async () => new RegExp(`It shows .*${new Date().getFullYear()}.* now`).test(await told.innerText()))
  await p.unroute(before)
  const put = p.waitForResponse((r) => r.url().endsWith('/clock') && r.request().method() === 'PUT')
  await told.getByRole('button', { name: 'That is right' }).click()
  expect((await put).status()).toBe(200)
  await told.waitFor({ state: 'detached' })
})
