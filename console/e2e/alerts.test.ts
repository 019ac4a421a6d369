import { createServer, type Server } from 'node:http'
import { afterAll, beforeAll, expect, test } from 'vitest'
import { Board, closeBrowser, Hub, overflow, page, phone, signIn, until } from './hub'

// Told when something is the matter: made beside the last month, seen, acknowledged, carried elsewhere.
const hub = new Hub()
let board: Board
let server: Server
const bodies: string[] = []
beforeAll(async () => {
  await hub.start()
  await hub.setUp()
  board = new Board(hub, 'drying_room', await hub.device('drying_room')).connect()
  board.publish('is/heater', 'off')
  board.publish('r', '{"temperature":21.5,"humidity":55}')
  await until('signals', async () => (await hub.call<{ signals: unknown[] }>('GET', '/now')).signals.length === 2)
  await hub.call('PATCH', '/signals/drying_room.humidity', { unit: '%' })
  const now = Date.now()
  await hub.call('POST', '/readings', {
    series: 'drying_room.humidity',
    readings: Array.from({ length: 2000 }, (_, i) => ({
      t: now - (2001 - i) * 1200_000,
      v: Math.round(500 + 150 * Math.sin(i / 30)) / 10,
    })),
  })
  server = createServer((q, r) => {
    q.on('data', (b) => bodies.push(String(b)))
    r.end('thanks')
  }).listen(0, '127.0.0.1')
})
afterAll(async () => {
  server.close()
  await closeBrowser()
  await hub.remove()
})

test('from "tell me when" to an alert that somebody acknowledges on a phone', async () => {
  const { page: p, faults } = await page(hub.url)
  await signIn(p)
  await p.getByRole('link', { name: 'Alerts' }).first().click()
  await p.getByText('All is well.').waitFor()
  await p.goto(hub.url + '/signals/drying_room.humidity')
  await p.getByRole('link', { name: 'Tell me when' }).click()
  await p.getByText('It would not have come').waitFor()
  // Dragging the limit down tells at once how often it would have come.
  const grab = p.locator('[data-grab="limit"]')
  const at = (await grab.boundingBox())!
  await p.mouse.move(at.x + 200, at.y + at.height / 2)
  await p.mouse.down()
  await p.mouse.move(at.x + 200, at.y + 60, { steps: 4 })
  await p.getByText(/It would have come \d+ times/).waitFor()
  await p.mouse.up()
  expect(Number(await p.getByLabel('Limit', { exact: true }).inputValue())).toBeLessThan(65)
  await p.getByLabel('Limit', { exact: true }).fill('60')
  await p.getByLabel('If it lasts, min').fill('0')
  await p.getByLabel('What to do').fill('Air the room.')
  await p.getByRole('button', { name: 'Tell me', exact: true }).click()
  await p.locator('[data-made="humidity_is_above_60"]').waitFor()

  // Another of the same name stands beside it.
  await p.goto(hub.url + '/alerts/new?of=drying_room.humidity')
  await p.getByLabel('Limit', { exact: true }).fill('60')
  await p.getByLabel('What to do').fill('Look at the window.')
  await p.getByRole('button', { name: 'Tell me', exact: true }).click()
  const second = p.locator('[data-made="humidity_is_above_60_2"]')
  await second.waitFor()
  await p.locator('[data-made="humidity_is_above_60"]').waitFor()
  await second.getByRole('button', { name: 'Take away' }).click()
  await second.waitFor({ state: 'detached' })
  await p.getByRole('button', { name: 'Bring it back' }).click()
  await second.waitFor()
  await second.getByRole('button', { name: 'Take away' }).click()
  await second.waitFor({ state: 'detached' })

  // From the page of alerts what it is about is chosen first; a formula is tried on the past as well.
  await p.goto(hub.url + '/alerts')
  await p.getByRole('link', { name: 'Tell me when' }).click()
  await p.getByRole('button', { name: 'A formula' }).click()
  await p.getByLabel('When', { exact: true }).fill('drying_room.humidity > 60 and drying_room.temperature > 99')
  await p.getByText('It would not have come').waitFor()
  await p.goto(hub.url + '/alerts')

  // A route is tested against the other side before it counts.
  await p.getByRole('button', { name: 'Add a route' }).click()
  await p.getByLabel('Name').fill('Hall')
  await p.getByLabel('By', { exact: true }).selectOption('webhook')
  await p.getByLabel('Address (URL)').fill(`http://127.0.0.1:${(server.address() as { port: number }).port}/`)
  await p.getByRole('button', { name: 'Save', exact: true }).first().click()
  const route = p.locator('[data-route="hall"]')
  await route.getByRole('button', { name: 'Test' }).click()
  await route.getByText('is an address in the house').waitFor()
  await route.getByRole('button', { name: 'Change' }).click()
  await p.getByLabel('it may go to addresses in the house').check()
  await p.getByRole('button', { name: 'Save', exact: true }).first().click()
  await route.getByRole('button', { name: 'Test' }).click()
  await route.getByText('taken: 200 OK thanks').waitFor()

  const small = await page(hub.url, phone)
  await signIn(small.page)
  board.publish('r/humidity', '71')
  await small.page
    .locator('.attention')
    .getByText(/^71(.0)? %/)
    .waitFor()
  await until('in the title too', async () => (await small.page.title()).startsWith('(1)'))
  await small.page.locator('.attention').getByRole('link').first().tap()
  const row = small.page.locator('[data-alert="humidity_is_above_60"]')
  await row.getByText('Air the room.').waitFor()
  await row.getByText(/^71(\.0)? %, above 60(\.0)? % · for \d+ s$/).waitFor()
  await row.getByText(/^told Hall by webhook \d+ s ago$/).waitFor()
  await small.page.getByLabel('A word with it').fill('window open')
  await small.page.getByRole('button', { name: 'Acknowledge' }).tap()
  await row.getByText('acknowledged by Mo: window open').waitFor()
  expect(await overflow(small.page)).toBeLessThanOrEqual(0)
  // The other screen follows, and the webhook was told once.
  await p.locator('[data-alert="humidity_is_above_60"]').getByText('acknowledged by Mo').waitFor()
  await until('carried', () => bodies.filter((b) => b.includes('idleember.raised')).length === 1)
  board.publish('r/humidity', '50')
  await small.page.getByText('All is well.').waitFor()
  await small.page.getByRole('cell', { name: 'over', exact: true }).first().waitFor()
  await p.locator('[data-made="humidity_is_above_60"]').getByRole('button', { name: 'Take away' }).click()
  await p.getByRole('button', { name: 'Bring it back' }).click()
  await p.locator('[data-made="humidity_is_above_60"]').waitFor()
  expect(faults).toEqual([])
})

test('many from one cause are one line; a guest sees none that is not open to guests', async () => {
  for (let i = 0; i < 8; i++)
    await hub.call('POST', '/alerts', {
      id: `many_${i}`,
      name: `Dry ${i}`,
      kind: 'below',
      of: 'drying_room.temperature',
      limit: 10 - i / 100,
      severity: 'warning',
    })
  board.publish('r/temperature', '5')
  const { page: p } = await page(hub.url)
  await signIn(p)
  await p.goto(hub.url + '/alerts')
  await p.getByText('8 alerts that came together').waitFor()
  await p.getByLabel('All 8').check()
  await p.getByRole('button', { name: 'Acknowledge 8' }).click()
  await until('all of them', async () =>
    (await hub.call<{ alerts: { state: { phase: string } }[] }>('GET', '/now')).alerts.every((a) => a.state.phase === 'acknowledged'),
  )
  await hub.call('POST', '/members', { account: 'lee', name: 'Lee', role: 'guest', password: 'a long enough password' })
  const guest = await page(hub.url, phone)
  await signIn(guest.page, 'lee')
  await guest.page.goto(hub.url + '/alerts')
  await guest.page.getByText('All is well.').waitFor()
  expect(await guest.page.getByText('Who is told').count()).toBe(0)
})
