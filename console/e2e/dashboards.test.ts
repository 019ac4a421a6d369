import { writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, beforeAll, expect, test } from 'vitest'
import type { Page } from 'playwright-core'
import { Board, closeBrowser, Hub, overflow, page, phone, signIn, until } from './hub'

// Pages that people arrange, drawings on them, and walls that show them.
const hub = new Hub()
let board: Board
beforeAll(async () => {
  await hub.start()
  await hub.setUp()
  board = new Board(hub, 'drying_room', await hub.device('drying_room')).connect()
  board.publish('is/heater', 'off')
  board.publish('r', '{"temperature":21.5,"humidity":55}')
  await until('signals', async () => (await hub.call<{ signals: unknown[] }>('GET', '/now')).signals.length === 2)
  await hub.call('PATCH', '/signals/drying_room.humidity', { unit: '%' })
  await hub.call('PATCH', '/signals/drying_room.temperature', { unit: 'Cel', decimals: 1 })
})
afterAll(async () => {
  await closeBrowser()
  await hub.remove()
})

type Tile = { id: string; kind: string; of?: string[]; x: number; y: number; w: number; h: number }
const tiles = async (id: string) => (await hub.call<{ config: { tiles: Tile[]; narrow?: string[] } }>('GET', '/dashboards/' + id)).config
const edit = (p: Page, id: string) => p.locator(`[data-edit="${id}"]`)
async function add(p: Page, thing: string) {
  await p.getByRole('button', { name: 'Add a tile' }).first().click()
  await p.locator(`[data-thing="${thing}"]`).click()
}

test('a page is arranged by mouse and keys, taken back, kept, and follows the width', async () => {
  const { page: p, faults } = await page(hub.url)
  await signIn(p)
  await p.getByRole('link', { name: 'Dashboards' }).first().click()
  await p.getByText('No dashboard yet').waitFor()
  await p.getByLabel('Name').fill('Workshop')
  await p.getByRole('button', { name: 'Make it' }).click()
  await p.getByText('Nothing on it yet').waitFor()
  // What is chosen finds a tile that suits it.
  await add(p, 'drying_room.temperature')
  await edit(p, 't1').locator('.tile.sparkline').waitFor()
  await add(p, 'drying_room.humidity')
  await edit(p, 't2').locator('.tile.gauge').waitFor()
  await add(p, 'drying_room.heater')
  await edit(p, 't3').locator('.tile.control').waitFor()
  // By keys: down two rows, one column wider, twice, away.
  await edit(p, 't3').focus()
  await p.keyboard.press('ArrowDown')
  await p.keyboard.press('ArrowDown')
  await p.keyboard.press('Shift+ArrowRight')
  await p.keyboard.press('d')
  await edit(p, 't4').waitFor()
  await p.keyboard.press('Control+z')
  await until('taken back', async () => (await edit(p, 't4').count()) === 0)
  await p.keyboard.press('Control+y')
  await edit(p, 't4').focus()
  await p.keyboard.press('Delete')
  await until('away', async () => (await edit(p, 't4').count()) === 0)
  // By mouse: the gauge goes to the right edge.
  const grip = edit(p, 't2').locator('.grip')
  const at = (await grip.boundingBox())!
  await p.mouse.move(at.x + 8, at.y + 8)
  await p.mouse.down()
  await p.mouse.move(at.x + 300, at.y + 40, { steps: 8 })
  await p.mouse.move(at.x + 620, at.y + 8, { steps: 12 })
  await p.mouse.up()
  await until('it lies at the right', async () => Number(await edit(p, 't2').getAttribute('gs-x')) >= 8)
  // Settings show at once.
  await edit(p, 't2')
    .getByRole('button', { name: /Settings of/ })
    .click()
  await p.getByLabel('Title').fill('Damp')
  await p.getByRole('button', { name: 'A range with a meaning' }).click()
  await edit(p, 't2').getByText('Damp', { exact: true }).waitFor()
  await p.getByRole('button', { name: 'Close' }).click()
  await p.getByRole('button', { name: 'Phone' }).click()
  await p.locator('[data-order="t3"]').getByRole('button', { name: 'Heater earlier' }).click()
  await p.getByRole('button', { name: 'Save' }).click()
  await p.getByText('Saved.').waitFor()
  const kept = await tiles('workshop')
  expect(kept.tiles.find((t) => t.id === 't3')).toMatchObject({ x: 6, y: 2, w: 5, kind: 'control' })
  expect(kept.tiles.find((t) => t.id === 't2')).toMatchObject({ y: 0, w: 3 })
  expect(kept.narrow!.indexOf('t3')).toBeLessThan(2)
  await p.reload()
  await p.locator('[data-tile="t1"]').getByText('21.5').waitFor()

  const small = await page(hub.url, phone)
  await signIn(small.page)
  await small.page.goto(hub.url + '/dashboards/workshop')
  await small.page.locator('[data-tile="t3"]').waitFor()
  const [one, three] = await Promise.all(['t1', 't3'].map(async (t) => (await small.page.locator(`[data-tile="${t}"]`).boundingBox())!))
  expect(three!.width).toBeGreaterThan(340)
  expect(one!.width).toBeLessThan(200)
  expect(await overflow(small.page)).toBeLessThanOrEqual(0)
  // A switch on it is a switch as anywhere.
  await small.page.locator('[data-tile="t3"]').getByRole('button', { name: 'On', exact: true }).tap()
  await until('confirmed', async () => /^on\b/.test(await small.page.locator('[data-tile="t3"] .state').innerText()))
  expect(faults).toEqual([])
})

test('two who arrange at once: the second is told; a place comes ready made; a file brings it back', async () => {
  const { page: p } = await page(hub.url)
  await signIn(p)
  await p.goto(hub.url + '/dashboards')
  await p.locator('[data-ready="drying_room"]').click()
  await until('ready', async () => (await p.locator('[data-edit]').count()) >= 4)
  const other = (await hub.call<{ config: object }>('GET', '/dashboards/drying_room')).config
  await p.locator('[data-edit]').first().focus()
  await p.keyboard.press('Delete')
  await hub.call('PUT', '/dashboards/drying_room', { ...other, name: 'Theirs' }, { 'If-Match': '*' })
  await p.getByText('Somebody else changed this dashboard').waitFor()
  await p.getByRole('button', { name: 'Save', exact: true }).click()
  await p.getByRole('alert').filter({ hasText: 'changed this meanwhile' }).waitFor()
  // Going away asks first.
  await p.getByRole('link', { name: 'Charts' }).first().click()
  await p.getByText('It is not saved yet.').waitFor()
  await p.getByRole('button', { name: 'Go on arranging' }).click()
  await p.getByRole('button', { name: 'Take theirs' }).click()
  await p.getByRole('heading', { name: 'Theirs' }).waitFor()
  const [file] = await Promise.all([p.waitForEvent('download'), p.getByRole('button', { name: 'To a file' }).click()])
  const path = join(hub.dir, 'board.json')
  await file.saveAs(path)
  await p.goto(hub.url + '/dashboards')
  await p.locator('[data-ready="drying_room"]').click()
  await p.waitForURL(/\/dashboards\/drying_room_2\?edit=1$/)
  await p.goto(hub.url + '/dashboards/drying_room')
  await p.getByRole('heading', { name: 'Theirs' }).waitFor()
  await p.getByRole('button', { name: 'Share' }).click()
  await p.getByRole('button', { name: 'Take the dashboard away' }).click()
  await p.getByRole('button', { name: 'Take it away' }).click()
  await p.waitForURL(/\/dashboards$/)
  await p.setInputFiles('[aria-label="Dashboard file"]', path)
  await p.getByRole('heading', { name: 'Theirs' }).waitFor()
})

test('a drawing: made safe, pinned by finger, moved by a control and by a formula', async () => {
  const svg = join(hub.dir, 'circuit.svg')
  writeFileSync(
    svg,
    `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 200 100" onload="window.harmed = 1"><style>#pipe{stroke:#333}</style><script>window.harmed = 2</script>
    <path id="pipe" d="M0 50H200" /><circle id="pump" cx="50" cy="50" r="20" fill="#fff" /><rect id="tank" x="120" y="10" width="60" height="80" fill="#964" /><text id="words" x="100" y="20">?</text></svg>`,
  )
  const { page: p, faults } = await page(hub.url)
  await signIn(p)
  await hub.call('POST', '/dashboards', { id: 'circuit', name: 'Circuit', shared: 'everybody', tiles: [] })
  await p.goto(hub.url + '/dashboards/circuit?edit=1')
  await p.getByRole('button', { name: 'Add a tile' }).first().click()
  await p.locator('[data-kind="picture"]').click()
  await p.setInputFiles('input[type=file][accept*="svg"]', svg)
  await p.getByText('Left out, as it could do harm: onload, script').waitFor()
  await p.getByRole('button', { name: 'Pin something on it' }).click()
  await p.locator('.offcanvas [data-thing="drying_room.temperature"]').click()
  const pin = edit(p, 't1').locator('[data-pin]')
  await pin.getByText('21.5').waitFor()
  await pin.focus()
  await p.keyboard.press('ArrowRight')
  await p.getByRole('button', { name: 'Move a part' }).click()
  await p.locator('.offcanvas [data-thing="drying_room.heater"]').click()
  const part = (n: number) => p.locator('.offcanvas .inset').nth(n)
  await part(1).getByLabel('The part').selectOption('pump')
  await p.getByRole('button', { name: 'Move a part' }).click()
  await p.locator('.offcanvas [data-thing="drying_room.humidity"]').click()
  await part(2).getByLabel('The part').selectOption('tank')
  await part(2).getByLabel('What it does').selectOption('level')
  await part(2).getByLabel('to', { exact: true }).fill('100')
  await p.getByRole('button', { name: 'Move a part' }).click()
  await p.locator('.offcanvas [data-thing="drying_room.humidity"]').click()
  await part(3).getByLabel('The part').selectOption('words')
  await part(3).getByLabel('What it does').selectOption('text')
  await part(3).getByRole('button', { name: 'by a formula instead' }).click()
  await part(3).getByLabel('by the formula').fill('drying_room.humidity / 5')
  await part(3).getByLabel('by the formula').press('Tab')
  await part(3).getByText('It comes to 11 now.').waitFor()
  await p.getByRole('button', { name: 'Close' }).click()
  await p.getByRole('button', { name: 'Save' }).click()
  await p.getByText('Saved.').waitFor()

  const inside = (f: string) => p.evaluate(`(() => { const s = document.querySelector('.drawing').shadowRoot; return ${f} })()`)
  await until('the formula writes', async () => (await inside(`s.querySelector('#words').textContent`)) === '11')
  expect(await inside(`s.querySelector('#tank').style.transform`)).toBe('scaleY(0.55)')
  expect(await inside(`getComputedStyle(s.host).contain`)).toBe('strict') // nothing of it is drawn outside its tile
  const fill = () => inside(`getComputedStyle(s.querySelector('#pump')).fill`)
  await hub.call('PUT', '/controls/drying_room.heater/want', { to: false })
  await until('pale', async () => /\b0%/.test(String(await inside(`s.querySelector('#pump').style.fill`))))
  const pale = await fill()
  await hub.call('PUT', '/controls/drying_room.heater/want', { to: true })
  await until('it lights up', async () => (await fill()) !== pale)
  expect(await p.evaluate('window.harmed')).toBeUndefined()
  // What is no longer heard of is grey, and said in words.
  expect(await inside(`s.querySelectorAll('[data-old]').length`)).toBe(0)
  await hub.call('PATCH', '/signals/drying_room.humidity', { interval_ms: 1000 })
  await hub.call('PATCH', '/signals/drying_room.temperature', { interval_ms: 1000 })
  await p.getByText(/^Humidity: .+ old$/).waitFor()
  expect(
    await inside(`s.querySelector('#tank').hasAttribute('data-old') && getComputedStyle(s.querySelector('#tank')).filter !== 'none'`),
  ).toBe(true)
  expect(await inside(`s.querySelector('#pump').hasAttribute('data-old')`)).toBe(false)
  await p.locator('[data-pin]').getByText(/ old$/).waitFor()
  if (process.env.SHOT) await p.screenshot({ path: process.env.SHOT })
  board.disconnect()
  await until('the pump too', () => inside(`s.querySelector('#pump').hasAttribute('data-old')`))
  board = new Board(hub, 'drying_room', board.key).connect()
  for (const name of ['humidity', 'temperature']) await hub.call('PATCH', `/signals/drying_room.${name}`, { interval_ms: 600_000 })
  board.publish('r', '{"temperature":21.5,"humidity":55}')
  await until('as it is now', async () => (await inside(`s.querySelectorAll('[data-old]').length`)) === 0)
  expect(faults).toEqual([])
  // By a finger, on a phone, a pin moves with it.
  const small = await page(hub.url, phone)
  await signIn(small.page)
  await small.page.goto(hub.url + '/dashboards/circuit?edit=1')
  const there = small.page.locator('[data-pin]')
  await there.waitFor()
  await until('drawn', () => small.page.evaluate(`!!document.querySelector('.drawing')?.shadowRoot?.querySelector('svg')`))
  await small.page.waitForTimeout(300)
  const from = (await there.boundingBox())!
  const finger = (type: string, x: number, y: number) =>
    there.dispatchEvent(type, { pointerType: 'touch', pointerId: 7, isPrimary: true, bubbles: true, clientX: x, clientY: y })
  await finger('pointerdown', from.x + 10, from.y + 10)
  await finger('pointermove', from.x - 60, from.y + 30)
  await finger('pointerup', from.x - 60, from.y + 30)
  await until('it moved', async () => (await there.boundingBox())!.x < from.x - 30)
})

test('a wall: a link of its own, what was chosen and no more, plain when it is not live, gone when revoked', async () => {
  const { page: p } = await page(hub.url)
  await signIn(p)
  await hub.call('POST', '/dashboards', {
    id: 'door',
    name: 'By the door',
    tiles: [
      { id: 'a', kind: 'value', of: ['drying_room.temperature'], x: 0, y: 0, w: 6, h: 2 },
      { id: 'b', kind: 'control', of: ['drying_room.heater'], x: 6, y: 0, w: 6, h: 2 },
      { id: 'c', kind: 'clock', x: 0, y: 2, w: 6, h: 2 },
      { id: 'd', kind: 'alerts', of: ['drying_room'], x: 6, y: 2, w: 6, h: 2 },
    ],
  })
  await p.goto(hub.url + '/dashboards/door')
  await p.getByRole('button', { name: 'Share' }).click()
  const make = async (name: string, tick: boolean) => {
    await p.getByLabel('A new wall, called').fill(name)
    if (tick) await p.getByRole('checkbox', { name: 'Heater' }).check()
    await p.getByLabel('It dims at night').check()
    await p.locator('input[type=time]').first().fill('00:00')
    await p.locator('input[type=time]').last().fill('23:59')
    const before = (await p.locator('code.link').count()) ? await p.locator('code.link').innerText() : ''
    await p.getByRole('button', { name: 'Make the link' }).click()
    return until('the link', async () => {
      const l = (await p.locator('code.link').count()) ? await p.locator('code.link').innerText() : ''
      return l !== before ? l : ''
    })
  }
  const looks = await page(await make('Door', false))
  await looks.page.locator('[data-tile="a"]').getByText('21.5').waitFor()
  expect(looks.page.url()).not.toContain('#')
  await until('dim', async () => (await looks.page.locator('.wall-page.dim').count()) === 1)
  await looks.page.mouse.click(640, 500)
  await until('lit for a while', async () => (await looks.page.locator('.wall-page.dim').count()) === 0)
  await looks.page.locator('[data-tile="b"]').getByRole('button', { name: 'Off', exact: true }).click({ force: true })
  await looks.page.getByText('This wall only shows it.').waitFor()
  const size = await looks.page.locator('[data-tile="a"] .value').evaluate((e) => parseFloat(getComputedStyle(e).fontSize))
  expect(size).toBeGreaterThan(48)
  board.publish('r/temperature', '22.5')
  await looks.page.locator('[data-tile="a"]').getByText('22.5').waitFor()
  // What is critical is told wherever it is.
  const tells = looks.page.locator('[data-tile="d"]')
  await tells.getByText('All is well in Drying room, and nothing is critical elsewhere.').waitFor()
  await hub.call('POST', '/alerts', { id: 'gas', name: 'Gas', kind: 'formula', when: 'drying_room.temperature > 22', severity: 'critical' })
  await tells.getByText('Gas').waitFor()
  await hub.call('POST', '/alerts/act', { ids: ['gas'], action: 'acknowledge' })
  await tells.getByText('acknowledged by Mo').waitFor()
  expect(await looks.page.evaluate(() => fetch('/api/v1/journal').then((r) => r.status))).toBe(403)
  expect(await looks.page.evaluate(() => fetch('/api/v1/next').then((r) => r.status))).toBe(200) // what its strips plan

  const switches = await page(await make('Kitchen', true))
  await until('it was on', async () => /^(on|off)/.test(await switches.page.locator('[data-tile="b"] .state').innerText()))
  await switches.page.locator('[data-tile="b"]').getByRole('button', { name: 'Off', exact: true }).click()
  await until('switched', async () => /^off/.test(await switches.page.locator('[data-tile="b"] .state').innerText()))
  // The screen starts anew without its key in the address.
  await switches.page.reload()
  await switches.page.locator('[data-tile="a"]').getByText('22.5').waitFor()

  await hub.stop('SIGKILL')
  await looks.page.getByText(/NOT LIVE for/).waitFor({ timeout: 30_000 })
  await hub.start()
  await until('live again by itself', async () => (await looks.page.getByText(/NOT LIVE/).count()) === 0, 30_000)
  await p.locator('[data-wall]', { hasText: 'Door' }).getByRole('button', { name: 'Revoke' }).click()
  await looks.page.getByText('This wall has ended').waitFor({ timeout: 40_000 })
  await switches.page.locator('[data-tile="a"]').getByText('22.5').waitFor()
})

test('each person reads the units that they are used to', async () => {
  const { page: p } = await page(hub.url)
  await signIn(p)
  board.publish('r/temperature', '22.5')
  await hub.call('POST', '/readings', {
    series: 'drying_room.temperature',
    readings: [
      { t: Date.now() - 7200_000, v: 10 },
      { t: Date.now() - 3600_000, v: 20 },
    ],
  })
  await p.goto(hub.url + '/settings')
  await p.getByLabel('°F, inches, gallons').check()
  await p.getByText('saved', { exact: true }).waitFor()
  await p.goto(hub.url + '/signals/drying_room.temperature')
  await p.locator('.now .value', { hasText: '72.5 °F' }).waitFor()
  await until('extremes too', async () => /50\.0/.test(await p.getByRole('table', { name: 'At a glance' }).innerText()))
  await p.goto(hub.url)
  await p.locator('[data-signal="drying_room.temperature"]', { hasText: '72.5 °F' }).waitFor()
  expect(
    (await hub.call<{ signals: { config: { id: string }; state: { value: number } }[] }>('GET', '/now')).signals.find(
      (s) => s.config.id === 'drying_room.temperature',
    )!.state.value,
  ).toBe(22.5)
})

test('a strip shows when it ran, and what its schedule plans', async () => {
  // Once, so that it is the same at any hour.
  const at = new Date(Math.ceil((Date.now() + 2 * 3600_000) / 60_000) * 60_000)
  await hub.call('PUT', '/controls/drying_room.heater/automation', {
    control: 'drying_room.heater',
    demands: [{ kind: 'schedule', schedule: { once: [{ at: at.toISOString(), for_ms: 30 * 60_000 }] } }],
  })
  await hub.call('POST', '/dashboards', {
    id: 'plan',
    name: 'Plan',
    tiles: [
      { id: 'ran', kind: 'strip', of: ['drying_room.heater', 'drying_room.temperature'], x: 0, y: 0, w: 6, h: 2 },
      { id: 'drawn', kind: 'chart', of: ['drying_room.heater', 'drying_room.temperature'], x: 0, y: 2, w: 6, h: 4 },
      { id: 'lit', kind: 'lamp', of: ['drying_room.temperature'], x: 6, y: 0, w: 3, h: 1 },
      { id: 'wrong', kind: 'setpoint', of: ['drying_room.temperature'], x: 6, y: 1, w: 3, h: 1 },
      { id: 'strange', kind: 'of_another_version', of: ['drying_room.heater'], x: 6, y: 2, w: 3, h: 1 },
    ],
  })
  const { page: p } = await page(hub.url, phone)
  await signIn(p)
  await p.goto(hub.url + '/dashboards/plan')
  const clock = at.toLocaleTimeString('en-GB', { timeZone: 'Europe/Vienna', hour: '2-digit', minute: '2-digit' })
  await p.locator('[data-tile="ran"]').getByText(`next ${clock} for 30 min`).waitFor()
  const strip = p.getByRole('img', { name: new RegExp(`^.*on for .* in the last 24 hours, next ${clock} for 30 min$`) })
  const [all, planned] = [(await strip.boundingBox())!, (await strip.locator('.planned').boundingBox())!]
  expect((planned.x - all.x) / all.width).toBeCloseTo(26 / 36, 1) // two hours after the day that is behind
  for (const what of [
    'wrong"] :text("does not fit what it is about")',
    'strange"] :text("does not fit what it is about")',
    'drawn"] .chart-box',
    'lit"] .lamp-line',
  ])
    await p.locator(`[data-tile="${what}`).first().waitFor()
})
