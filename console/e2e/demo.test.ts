import { createRequire } from 'node:module'
import { afterAll, beforeAll, expect, test } from 'vitest'
import type { Page } from 'playwright-core'
import { closeBrowser, desk, flat, Hub, overflow, page, phone, signIn, until } from './hub'

// The studio with its three weeks of history: charts, looks and access for everybody.
const hub = new Hub()
const axe = createRequire(import.meta.url).resolve('axe-core/axe.min.js')
let word = ''
beforeAll(async () => {
  await hub.start('demo')
  word = /mo\s+(\S+-\d+)\s+owner/.exec(hub.said)![1]!
})
afterAll(async () => {
  await closeBrowser()
  await hub.remove()
})

const query = (p: Page) => new URL(p.url()).searchParams

test('the heater warms the room', async () => {
  const { page: p } = await page(hub.url, phone)
  await signIn(p, 'mo', word)
  const value = p.locator('[data-signal="drying_room.temperature"] .value')
  const before = parseFloat(await value.innerText())
  const row = p.locator('[data-control="drying_room.heater"]')
  await row.getByRole('button', { name: 'On', exact: true }).click()
  await until('confirmed', async () => /^on\b/.test(await row.locator('.state').innerText()))
  await until('warmer', async () => parseFloat(await value.innerText()) > before + 0.5, 60_000)
  hub.type('b')
  await until('the button on the board shows', async () => /^off/.test(await row.locator('.state').innerText()))
  hub.type('p')
  await p.getByText(/Drying room offline for/).waitFor({ timeout: 30_000 })
  hub.type('p')
  await until('back', async () => (await p.getByText(/Drying room offline/).count()) === 0, 30_000)
})

test('charts: a tap on a value, spans, zoom by drag and pinch, gaps', async () => {
  const { page: p, faults } = await page(hub.url)
  await signIn(p, 'mo', word)
  await p.locator('[data-signal="drying_room.temperature"]').click()
  await p.locator('.u-over').first().waitFor()
  expect(query(p).get('s')).toBe('drying_room.temperature')
  await p.getByRole('button', { name: 'Week' }).click()
  await p.getByText('10 min buckets').waitFor()
  await p.getByLabel('Add a signal').fill('drying_room.humidity')
  await p.getByLabel('Add a signal').press('Enter')
  await p.getByLabel('Add a signal').fill('drying_room.heater.is')
  await p.getByLabel('Add a signal').press('Enter')
  await until('two panes and a strip', async () => (await p.locator('.u-over').count()) === 2 && (await p.locator('.strip svg').count()) === 1)
  expect(await p.locator('.figures tbody tr').count()).toBe(3)
  const box = (await p.locator('.u-over').first().boundingBox())!
  await p.mouse.move(box.x + box.width * 0.4, box.y + 50)
  await p.mouse.down()
  await p.mouse.move(box.x + box.width * 0.5, box.y + 60, { steps: 5 })
  await p.mouse.up()
  await until('zoomed to a tenth', () => {
    const span = Number(query(p).get('to')) - Number(query(p).get('from'))
    return Math.abs(span / 3600_000 - 16.8) < 0.5
  })
  await p.getByText(/1 min buckets|2 min buckets/).waitFor()
  await p.goBack()
  await until('back to the week', () => query(p).get('from') === null)
  await p.keyboard.press('ArrowLeft')
  await p.getByRole('button', { name: 'Now' }).click()

  // The board was unplugged 61 hours ago for 100 minutes: the line is open there.
  const history = await p.evaluate(async () => {
    const to = new Date(), from = new Date(Date.now() - 3 * 86400_000)
    const r = await fetch(`/api/v1/history?series=drying_room.temperature&from=${from.toISOString()}&to=${to.toISOString()}&points=800`)
    return (await r.json())[0] as { gaps: [number, number][] }
  })
  expect(history.gaps.some(([a, b]) => b - a > 95 * 60_000 && b - a < 105 * 60_000)).toBe(true)
  const first = await p.evaluate(async () => {
    const r = await fetch(`/api/v1/history?series=drying_room.temperature&from=${new Date(Date.now() - 30 * 86400_000).toISOString()}&points=500`)
    return ((await r.json())[0] as { t: number[] }).t[0]!
  })
  expect((Date.now() - first) / 86400_000, 'three weeks are there').toBeGreaterThan(20.5)
  expect(faults).toEqual([])
})

test('charts: search, a year, a day, pause, compare, notes, files', async () => {
  const { page: p, faults } = await page(hub.url)
  await signIn(p, 'mo', word)
  await p.goto(hub.url + '/charts?s=spray_booth.air_speed')
  await p.locator('.uplot').first().waitFor()
  await p.getByLabel('Add a signal').fill('booth fan')
  await p.getByLabel('Add a signal').press('Enter')
  await until('found by its name', () => p.url().includes('spray_booth.fan.is'))
  await p.getByRole('button', { name: 'Year' }).click()
  await p.getByText(/h buckets, mean with min–max/).waitFor()
  await p.getByRole('button', { name: 'Pause' }).click()
  await until('it stands still', () => /from=\d+&to=\d+|to=\d+/.test(p.url()))
  await p.getByRole('button', { name: 'Now' }).click()
  await p.getByRole('button', { name: 'Pause' }).waitFor()
  await p.getByLabel('Compare').selectOption('a week')
  await p.getByText('pale: the week before').first().waitFor()
  const day = new Date(Date.now() - 3 * 86400_000).toISOString().slice(0, 10)
  await p.getByLabel('Jump to a day').fill(day)
  await p.getByRole('button', { name: 'Put a note' }).click()
  await p.getByLabel('Note', { exact: true }).fill('new filter')
  await p.getByLabel('At', { exact: true }).fill(`${day}T12:00`)
  await p.getByRole('button', { name: 'Save', exact: true }).click()
  await p.getByText('new filter').waitFor()
  await p.goto(hub.url + '/charts?s=glaze_store.temperature&span=604800000') // of the same place
  await p.getByText('new filter').waitFor()
  const file = async (name: string) => {
    const [got] = await Promise.all([p.waitForEvent('download'), p.getByRole('button', { name }).click()])
    return (await got.createReadStream()).setEncoding('latin1').reduce((all: string, part: string) => all + part, '')
  }
  expect(await file('Save as CSV')).toMatch(/^t,glaze_store\.temperature( mean)?/)
  expect((await file('Save as a picture')).slice(1, 4)).toBe('PNG')
  await p.getByRole('button', { name: 'Take the note new filter away' }).click()
  await p.getByText('Nothing is noted in this stretch.').waitFor()
  expect(faults).toEqual([])
})

test('charts follow two fingers', async () => {
  const { page: p } = await page(hub.url, phone)
  await signIn(p, 'mo', word)
  await p.goto(hub.url + '/charts?s=drying_room.temperature&span=86400000')
  const box = (await p.locator('.u-over').first().boundingBox())!
  const cdp = await p.context().newCDPSession(p)
  const touch = (type: 'touchStart' | 'touchMove' | 'touchEnd', spread: number) =>
    cdp.send('Input.dispatchTouchEvent', { type, touchPoints: type === 'touchEnd' ? [] : [-1, 1].map((s) => ({ x: box.x + box.width * (0.5 + s * spread), y: box.y + 60 })) })
  await touch('touchStart', 0.1)
  for (const s of [0.15, 0.2]) await touch('touchMove', s)
  await touch('touchEnd', 0)
  await until('half the span', () => Math.abs((Number(query(p).get('to')) - Number(query(p).get('from'))) / 3600_000 - 12) < 1.5)
})

test('live readings are appended to an open chart', async () => {
  const { page: p } = await page(hub.url)
  await signIn(p, 'mo', word)
  await p.goto(hub.url + '/charts?s=drying_room.temperature&span=3600000')
  await p.getByText('every reading').waitFor()
  const loads: string[] = []
  p.on('request', (r) => { if (r.url().includes('/history')) loads.push(r.url()) })
  const last = () => p.locator('.figures tbody td').nth(2).innerText()
  expect(await last()).toMatch(/\d/)
  const points = () => p.evaluate(() => document.querySelector('.figures tbody')!.textContent)
  const before = await points()
  await until('the table moves with the readings', async () => (await points()) !== before, 40_000)
})

const pages = ['/', '/charts?s=drying_room.temperature,drying_room.heater.is', '/control', '/devices', '/devices/new', '/models', '/devices/drying_room', '/devices/shelf_fan', '/journal', '/household', '/settings', '/nowhere']

test.each([['light', desk], ['dark', desk], ['light', phone], ['dark', flat]] as const)('no page fails anybody: %s %o', async (theme, size) => {
  const { page: p, faults } = await page(hub.url, size, theme)
  await p.addScriptTag({ path: axe }).catch(() => undefined)
  await signIn(p, 'mo', word)
  for (const path of pages) {
    await p.goto(hub.url + path)
    await p.locator('main').first().waitFor()
    await p.waitForTimeout(500)
    expect(await overflow(p), `${path} sticks out sideways`).toBeLessThanOrEqual(0)
    // The page's own policy keeps foreign scripts out, so the checker is brought in through the debugger.
    await p.evaluate(await import('node:fs').then((fs) => fs.readFileSync(axe, 'utf8')))
    const found = await p.evaluate(async () => {
      // @ts-expect-error the checker puts itself on the window
      const r = await window.axe.run(document, { resultTypes: ['violations'] })
      return r.violations.filter((v: { impact: string }) => ['serious', 'critical'].includes(v.impact))
        .map((v: { id: string; nodes: { html: string; failureSummary: string }[] }) => `${v.id}: ${v.nodes[0]!.html} ${v.nodes[0]!.failureSummary}`)
    })
    expect(found, path).toEqual([])
  }
  expect(faults.filter((f) => !f.includes('Content Security Policy'))).toEqual([])
})
