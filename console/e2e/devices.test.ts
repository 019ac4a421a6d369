import { writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { afterAll, afterEach, beforeEach, expect, test } from 'vitest'
import { Board, browser, closeBrowser, desk, Hub, overflow, page, phone, signIn, until } from './hub'

let hub: Hub
beforeEach(async () => {
  hub = await new Hub().start()
  await hub.setUp()
})
afterEach(async () => {
  for (const c of (await browser()).contexts()) await c.close()
  await hub.remove()
})
afterAll(closeBrowser)

const pushed = (id: string, key: string, body: string, type = 'application/json') =>
  fetch(`${hub.url}/push/${id}`, { method: 'POST', body, headers: { Authorization: 'Bearer ' + key, 'Content-Type': type } })

test('a device over HTTP: its key, its starter code, its first message, in well under a minute', async () => {
  const begun = Date.now()
  const { page: p, faults } = await page(hub.url, phone)
  await signIn(p)
  await p.goto(hub.url + '/devices')
  await p.getByRole('link', { name: 'Add a device' }).click()
  await p.getByLabel('What is it called?').fill('Shed')
  await p.getByLabel('Where is it?').fill('Yard')
  await p.getByLabel('It speaks over').selectOption('http')
  await p.getByRole('button', { name: 'Add it' }).click()
  await p.getByText('Waiting for the device').waitFor()
  const key = await p.locator('dl dd code').first().innerText()
  expect(await p.locator('pre').innerText()).toContain(key)
  expect(await p.getByText('Accept: text/plain').count()).toBe(1)
  await pushed('shed', key, '{"tempC":21.4,"bad":null}')
  await p.getByText('The first message arrived:').waitFor()
  expect(await p.locator('p[role=status]').innerText()).toContain('stored temp_c 21.4')
  expect(Date.now() - begun).toBeLessThan(60_000)
  expect(await overflow(p)).toBeLessThanOrEqual(0)
  await p.getByRole('link', { name: 'To its page' }).click()
  await p.locator('.traffic').getByText('stored temp_c 21.4').waitFor()
  await pushed('shed', key, '{"tempC":22.5}')
  await p.locator('.traffic').getByText('stored temp_c 22.5').waitFor()
  expect(await p.locator('.traffic').innerText()).not.toContain(key)
  expect(faults).toEqual([])
})

test('calibrating shows raw → value live, warns of the pin, and mends the past', async () => {
  const key = (await hub.call<{ key: string }>('POST', '/devices', { name: 'Shed', place: 'Yard', link: { kind: 'http' } })).key
  await pushed('shed', key, '{"adc":600}')
  const { page: p } = await page(hub.url, desk)
  await signIn(p)
  await p.goto(hub.url + '/devices/shed')
  const block = p.locator('[data-edit="shed.adc"]')
  await block.getByRole('button', { name: 'Calibrate' }).click()
  await block.getByRole('combobox', { name: 'Calibration' }).selectOption('divider')
  await block.getByText('raw 600 → 10.7331').waitFor()
  await pushed('shed', key, '{"adc":700}')
  await block.getByText('raw 700 → 12.522').waitFor()
  await block.getByLabel('R1, input to pin').fill('47000')
  await block.getByText('make R1 larger than').waitFor()
  await block.getByLabel('R1, input to pin').fill('100000')
  await block.getByRole('button', { name: 'Save the calibration' }).click()
  await block.getByText('saved; earlier readings stay').waitFor()
  await block.getByRole('button', { name: 'Recalibrate them' }).click()
  await block.getByText('2 readings changed').waitFor()
  await block.getByRole('combobox', { name: 'Calibration' }).selectOption('two_point')
  await block.getByRole('button', { name: 'Raw is 700 now' }).first().click()
  expect(await block.getByLabel('Raw', { exact: true }).first().inputValue()).toBe('700')
})

test('a mapping is tried before it is saved', async () => {
  const key = (await hub.call<{ key: string }>('POST', '/devices', { name: 'Plug', place: 'Yard', lease_ms: 0 })).key
  const { page: p, faults } = await page(hub.url, desk)
  await signIn(p)
  await p.goto(hub.url + '/devices/plug')
  await p.getByPlaceholder('where it is published').fill('bought/plug/report')
  await p.getByRole('textbox', { name: 'Message' }).fill('{"energy":{"power":41.5}}')
  await p.getByText('Try a new mapping on it').click()
  const box = p.locator('form', { has: p.getByRole('heading', { name: 'Try a message' }) })
  await box.getByLabel('Value at').selectOption('pointer')
  await box.getByLabel('JSON Pointer', { exact: true }).fill('/energy/watts')
  await box.getByRole('button', { name: 'Try it' }).click()
  await box.getByText('nothing lies at /energy/watts').waitFor()
  await box.getByLabel('JSON Pointer', { exact: true }).fill('/energy/power')
  await box.getByRole('button', { name: 'Try it' }).click()
  await until('a value', async () => (await box.locator('table').innerText()).includes('41.5'))

  await p.getByLabel('Name of a new signal').fill('power')
  await p
    .locator('form', { has: p.getByLabel('Name of a new signal') })
    .getByRole('button', { name: 'Add' })
    .click()
  const block = p.locator('[data-edit="plug.power"]')
  await block.getByRole('button', { name: 'Where it comes from' }).click()
  await block.getByLabel('Topic').fill('bought/plug/report')
  await block.getByLabel('Value at').selectOption('pointer')
  await block.getByLabel('JSON Pointer', { exact: true }).fill('/energy/power')
  await block.getByRole('button', { name: 'Save the mapping' }).click()
  await block.getByText('saved').waitFor()
  const board = new Board(hub, 'plug', key)
  await until('the mapped topic is taken', async () => {
    const { spawnSync } = await import('node:child_process')
    spawnSync('mosquitto_pub', [
      '-h',
      '127.0.0.1',
      '-p',
      String(hub.mqtt),
      '-u',
      'plug',
      '-P',
      board.key,
      '-q',
      '1',
      '-t',
      'bought/plug/report',
      '-m',
      '{"energy":{"power":71}}',
    ])
    return (await block.innerText()).includes('71')
  })
  expect(faults).toEqual([])
})

test('disable, bring back, remove; what is not confirmed is told', async () => {
  const key = await hub.device('drying_room')
  const board = new Board(hub, 'drying_room', key).connect()
  board.publish('is/heater', 'off')
  board.publish('r/temperature', '21')
  const { page: p } = await page(hub.url, desk)
  await signIn(p)
  const row = p.locator('[data-control="drying_room.heater"]')
  await row.getByRole('button', { name: 'On', exact: true }).click()
  await until('on', async () => /^on\b/.test(await row.locator('.state').innerText()))
  await p.goto(hub.url + '/devices/drying_room')
  await p.getByRole('button', { name: 'Disable' }).click()
  await p.locator('.modal').getByRole('button', { name: 'Disable' }).click()
  await p.getByText('It is disabled: it is neither heard').waitFor()
  expect(board.heard.join()).toContain('want/heater off')
  await p.getByRole('link', { name: 'Now', exact: true }).first().click()
  expect(await p.locator('[data-signal]').count(), 'what is disabled is not of now').toBe(0)
  await p.goto(hub.url + '/devices/drying_room')
  await p.getByRole('button', { name: 'Enable' }).click()
  await p.locator('.modal').getByRole('button', { name: 'Enable' }).click()
  await until('enabled', async () => (await p.getByText('It is disabled').count()) === 0)
  board.disconnect()
  await until('offline', async () => (await p.locator('.facts').innerText()).includes('offline'), 20_000)
  await hub.call('PUT', '/controls/drying_room.heater/want', { to: true })
  await p.getByRole('button', { name: 'Remove' }).first().click()
  await p.locator('.modal').getByRole('button', { name: 'Remove it' }).click()
  await p.getByText('look at it').waitFor()
  await p.getByText('It was removed. Its history is kept').waitFor()
  await p.getByRole('button', { name: 'Bring it back' }).waitFor()
})

test('device models: ten at once, saved, brought in with a preview', async () => {
  const { page: p, faults } = await page(hub.url, desk)
  await signIn(p)
  await p.goto(hub.url + '/models')
  const climate = p.locator('[data-model="climate_board"]')
  await climate.getByRole('button', { name: 'Add devices of it' }).click()
  await climate.getByLabel('Names, one a line').fill(Array.from({ length: 10 }, (_, i) => `Shelf ${i + 1}`).join('\n'))
  await climate.getByLabel('Place').fill('Shelves')
  await climate.getByRole('button', { name: 'Add 10 devices' }).click()
  await p.getByText('Added, with their keys').waitFor()
  expect(await p.locator('section table tr').count()).toBe(10)
  await climate.getByText('10 devices').waitFor()

  await p.goto(hub.url + '/devices/shelf_3')
  await p.getByRole('button', { name: 'Save as model' }).click()
  await p.getByLabel('Name of the model').fill('Our shelf')
  await p.locator('.modal').getByRole('button', { name: 'Keep it' }).click()
  await p.getByText('Kept as the device model Our shelf').waitFor()
  const file = join(hub.dir, 'model.json')
  writeFileSync(
    file,
    JSON.stringify({ ...(await hub.call<{ config: object }>('GET', '/models/our_shelf')).config, id: 'other', name: 'Other shelf' }),
  )
  await p.goto(hub.url + '/models')
  await p.locator('input[type=file]').setInputFiles(file)
  await p.getByLabel('Preview').getByText('Heater (switch)').waitFor()
  await p.getByRole('button', { name: 'Keep this model' }).click()
  await p.locator('[data-model="other"]').waitFor()
  writeFileSync(file, '{"format":"other"}')
  await p.locator('input[type=file]').setInputFiles(file)
  await p.getByRole('alert').waitFor()
  expect(faults).toEqual([])
})

test('a broker elsewhere and a panel are set up in Settings', async () => {
  const key = await hub.device('drying_room')
  const board = new Board(hub, 'drying_room', key)
  board.publish('r/temperature', '21')
  board.publish('is/heater', 'off')
  const { page: p } = await page(hub.url, desk)
  await signIn(p)
  await p.goto(hub.url + '/settings')
  await p.getByRole('button', { name: 'Add a broker' }).click()
  const form = p.locator('form', { has: p.getByLabel('Share the load, group') })
  await form.getByLabel('Name').fill('Workshop')
  await form.getByLabel('Address').fill('nonsense')
  await form.getByRole('button', { name: 'Save' }).click()
  await p.getByText("is no broker's address").waitFor()
  await form.getByLabel('Address').fill('mqtt://127.0.0.1:1')
  await form.getByRole('button', { name: 'Save' }).click()
  await p.getByText('not used by a device yet').waitFor()
  const panel = p.locator('form', { has: p.getByRole('heading', { name: 'Modbus panel' }) })
  await panel.getByLabel('Listens at').fill('127.0.0.1:0')
  await panel.getByLabel('Add a signal or switch').selectOption('drying_room.temperature')
  await panel.getByLabel('Add a signal or switch').selectOption('drying_room.heater')
  expect(await panel.locator('.point').count()).toBe(2)
  await panel.getByRole('button', { name: 'Save' }).click()
  await panel.getByText('saved').waitFor()
  await p.reload()
  await panel.locator('.point').nth(1).getByText('drying_room.heater').waitFor()
})
