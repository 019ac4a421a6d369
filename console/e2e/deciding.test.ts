import { afterAll, beforeAll, expect, test } from 'vitest'
import { Board, closeBrowser, Hub, page, phone, signIn, until } from './hub'

// The hub decides: from a first reason to run to a person who takes over, all in the console.
const hub = new Hub()
let board: Board
beforeAll(async () => {
  await hub.start()
  await hub.setUp()
  board = new Board(hub, 'drying_room', await hub.device('drying_room')).connect()
  board.publish('is/heater', 'off')
  board.publish('r/temperature', '21.0')
})
afterAll(async () => {
  await closeBrowser()
  await hub.remove()
})

// What the board was told last.
const wanted = () =>
  board.heard
    .filter((x) => x.includes('want/heater'))
    .at(-1)
    ?.split(' ')
    .at(-1)

test('a setpoint is made, held, changed by a tap, locked by hand, and explained', async () => {
  const { page: p, faults } = await page(hub.url)
  await signIn(p)
  await p.getByRole('link', { name: 'Control' }).first().click()
  const settings = p.locator('[data-parts="setting"]')
  await settings.getByRole('button', { name: 'Add a setting' }).click()
  await settings.getByLabel('Name').fill('Setpoint')
  await settings.getByRole('button', { name: 'Save' }).click()
  await settings.getByText('setpoint', { exact: false }).nth(1).waitFor()
  const id = await settings.locator('[data-setting]').first().getAttribute('data-setting')

  const card = p.locator('[data-automation="drying_room.heater"]')
  await card.getByRole('button', { name: 'Let the hub decide' }).click()
  await card.getByRole('button', { name: 'A reason to run' }).click()
  const of = card.getByLabel('What is held')
  await of.fill('drying_room.temp')
  await p.getByRole('option', { name: /drying_room\.temperature/ }).waitFor()
  await of.press('Enter')
  await until('completed', async () => (await of.inputValue()) === 'drying_room.temperature')
  await card.getByLabel('Setpoint: a setting or a number').fill('drying_room.nothing')
  await card.getByText('there is no drying_room.nothing').waitFor()
  await card.getByLabel('Setpoint: a setting or a number').fill(id!)
  await card.getByText('now 20').first().waitFor()
  await card.getByRole('button', { name: 'What would it be?' }).click()
  await card.getByText('It would be off').waitFor()
  await card.getByLabel('drying_room.temperature').fill('15')
  await card.getByLabel('drying_room.temperature').press('Tab')
  await card.getByText('It would be on').waitFor()
  await card.getByRole('button', { name: 'Save' }).click()
  await card.getByText(/On while .*temperature is below setpoint by more than 0\.5/).waitFor()
  expect(board.heard.join()).not.toContain('want/heater on')

  await p.goto(hub.url)
  const row = p.locator('[data-control="drying_room.heater"]')
  await row.getByRole('button', { name: 'Auto' }).waitFor()
  board.publish('r/temperature', '19.0')
  await until('the hub wants it on', async () => board.heard.some((x) => x.endsWith('want/heater on')))
  board.publish('is/heater', 'on')
  await until('on', async () => /^on/.test(await row.locator('.state').innerText()))
  const down = row.getByRole('button', { name: 'Setpoint down' })
  for (let i = 0; i < 4; i++) await down.click()
  await until('four taps are one change', async () => wanted() === 'off')
  board.publish('is/heater', 'off')
  await until('18.0', async () => (await row.locator('.stepper .value').innerText()).startsWith('18.0'))

  await row.getByRole('button', { name: 'On', exact: true }).click()
  board.publish('is/heater', 'on')
  await until('by hand', async () => /by hand/.test(await row.locator('.state').innerText()))
  await down.click({ force: true })
  await row.getByText('Heater is by hand; put it in auto to change this').waitFor()
  const name = (await row.getByText('Heater', { exact: true }).boundingBox())!
  await p.mouse.move(name.x + 4, name.y + 4)
  await p.mouse.down()
  await p.getByText('In auto it would be off.').waitFor()
  await p.mouse.up()
  await p.evaluate(() => (document.activeElement as HTMLElement).blur())
  await p.keyboard.press('Escape')
  await p.getByText('In auto it would be off.').waitFor({ state: 'detached' })
  await row.locator('.reason').click()
  await p.getByText('In auto it would be off.').waitFor()
  await p.getByRole('button', { name: '2 h' }).click()
  await p.getByText(/^Next\./).waitFor()
  await p.keyboard.press('Escape')
  await row.getByRole('button', { name: 'Auto' }).click()
  await until('auto again', async () => wanted() === 'off')
  expect(faults).toEqual([])
})

test('the form opens with what is in force, and what somebody else changed meanwhile is not overwritten', async () => {
  const open = async () => {
    const { page: p } = await page(hub.url)
    await signIn(p)
    await p.goto(hub.url + '/control#drying_room.heater')
    const card = p.locator('[data-automation="drying_room.heater"]')
    await card.getByLabel('What is held').waitFor()
    expect(await card.getByLabel('What is held').inputValue()).toBe('drying_room.temperature')
    return card
  }
  const [one, other] = [await open(), await open()]
  await one.getByLabel('Dead band').fill('1.5')
  await one.getByRole('button', { name: 'Save' }).click()
  await one
    .getByText(/by more than 1\.5/)
    .first()
    .waitFor()
  await until('the other one knows of it', async () => /1\.5/.test(await other.innerText()))
  await other.getByLabel('Dead band').fill('3')
  await other.getByRole('button', { name: 'Save' }).click()
  await other.getByRole('alert').waitFor()
  expect(await other.getByLabel('Dead band').inputValue()).toBe('3')
  const again = await open()
  expect(await again.getByLabel('Dead band').inputValue()).toBe('1.5')
})

test('a preset on the phone', async () => {
  await hub.call('POST', '/presets', {
    id: 'leave',
    name: 'Leave',
    ask: true,
    actions: [{ kind: 'control', id: 'drying_room.heater', to: 1 }],
  })
  const { page: p } = await page(hub.url, phone)
  await signIn(p)
  await p.locator('[data-preset="leave"]').click()
  await p.getByText('Apply Leave?').waitFor()
  await p.getByRole('button', { name: 'Apply', exact: true }).click()
  await until('applied', async () => wanted() === 'on')
})

test('a single run, a day without, and holidays with an end', async () => {
  const { page: p, faults } = await page(hub.url, phone)
  await signIn(p)
  await p.goto(`${hub.url}/control`)
  const card = p.locator('[data-automation="drying_room.heater"]')
  await card.getByRole('button', { name: 'Change' }).click()
  await card.getByRole('button', { name: 'One more reason to run' }).click()
  await card.getByLabel('Demand 2').selectOption('schedule')
  await card.getByRole('button', { name: 'A single run' }).click()
  await card.getByLabel('Once at').fill('2031-12-24T18:30')
  await card.getByLabel('A day without').fill('2031-12-25')
  await card.getByRole('button', { name: 'Save' }).click()
  await card.getByText(/once on 2031-12-24 18:30 for 1 h, but not on 2031-12-25/).waitFor()
  const { config } = (await hub.call('GET', '/controls/drying_room.heater/automation')) as {
    config: { demands: { schedule?: { once: { at: string }[] } }[] }
  }
  expect(Date.parse(config.demands[1]!.schedule!.once[0]!.at)).toBe(Date.parse('2031-12-24T17:30:00Z'))

  await hub.call('POST', '/settings', { id: 'drying_room.warm', name: 'Warm', kind: 'number', min: 5, max: 30, default: 20 })
  await hub.call('POST', '/presets', {
    id: 'holidays',
    name: 'Holidays',
    ends: true,
    actions: [{ kind: 'setting', id: 'drying_room.warm', to: 8 }],
  })
  await p.goto(hub.url)
  await p.locator('[data-preset="holidays"]').click()
  await p.getByLabel('Until').fill('2031-01-06T12:00')
  await p.getByRole('button', { name: 'Apply', exact: true }).click()
  await p.getByText('Holidays: done').waitFor()
  const snap = (await hub.call('GET', '/now')) as { settings: { config: { id: string }; state: { value: number; until?: string } }[] }
  const warm = snap.settings.find((g) => g.config.id === 'drying_room.warm')!
  expect([warm.state.value, Date.parse(warm.state.until!)]).toEqual([8, Date.parse('2031-01-06T11:00:00Z')])
  expect(faults).toEqual([])
})

test('what is seldom needed can be chosen in the form, and comes back in it', async () => {
  const { page: p, faults } = await page(hub.url)
  await signIn(p)
  await p.goto(hub.url + '/control')
  const card = p.locator('[data-automation="drying_room.heater"]')
  await card.getByRole('button', { name: 'Change' }).click()
  await card.getByText('Run limits, proof, by hand').click()
  await card.getByLabel('Starts an hour, at most').fill('4')
  await card.getByLabel('Changes a minute by the hub').fill('3')
  await card.getByLabel('restarting hurts it').check()
  await card.getByLabel('Proof: the effect that must show').fill('drying_room.temperature > 5')
  await card.getByLabel('without it, it is switched off').check()
  await card.getByRole('button', { name: 'Save' }).click()
  await until('saved', async () => {
    const { config: a } = (await hub.call('GET', '/controls/drying_room.heater/automation')) as {
      config: { changes?: number; limits?: Record<string, unknown>; proof?: Record<string, unknown> }
    }
    return a.changes === 3 && a.limits?.starts_an_hour === 4 && a.limits.restart_hurts === true && a.proof?.switch_off === true
  })
  await card.getByRole('button', { name: 'Change' }).click()
  await card.getByText('Run limits, proof, by hand').click()
  expect(await card.getByLabel('Changes a minute by the hub').inputValue()).toBe('3')
  expect(await card.getByLabel('without it, it is switched off').isChecked()).toBe(true)
  expect(faults).toEqual([])
})

test('who takes away what an interlock forces on is asked what shall stay', async () => {
  const fan = new Board(hub, 'extractor', await hub.device('extractor')).connect()
  fan.publish('is/fan', 'off')
  fan.publish('r/gas', '60')
  await until('the fan is known', () =>
    hub.call('GET', '/controls/extractor.fan').then(
      () => true,
      () => false,
    ),
  )
  await hub.call('PUT', '/controls/extractor.fan/automation', {
    control: 'extractor.fan',
    interlocks: [{ name: 'gas', when: 'extractor.gas > 30', to: 1 }],
  })
  await until('forced on', async () => fan.heard.some((x) => x.endsWith('want/fan on')))
  fan.publish('is/fan', 'on')
  const { page: p, faults } = await page(hub.url, phone)
  await signIn(p)
  await p.goto(`${hub.url}/devices/extractor`)
  await p.getByRole('button', { name: 'Disable' }).click()
  const question = p.locator('.modal')
  await question.getByText(/An interlock forces .*fan on now/i).waitFor()
  await question.getByLabel('what the interlock forces').check()
  await question.getByRole('button', { name: 'Disable' }).click()
  await p.getByText(/stays on, as an interlock forces it/).waitFor()
  expect(fan.heard.filter((x) => x.includes('want/fan') && !x.endsWith('(null)')).at(-1)).toMatch(/ on$/) // then what is kept for it is cleared
  expect(faults).toEqual([])
})
