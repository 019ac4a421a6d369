// Takes the pictures in docs/screenshots from the demo studio: make shots.
import { execFileSync } from 'node:child_process'
import { mkdirSync, mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join, resolve } from 'node:path'
import { afterAll, test } from 'vitest'
import { closeBrowser, desk, Hub, page, phone, signIn, until } from './hub'

const out = resolve(import.meta.dirname, '../../docs/screenshots')
const binary = resolve(import.meta.dirname, '../../bin/idleember')
afterAll(closeBrowser)

test.runIf(process.env.SHOTS)(
  'pictures',
  async () => {
    mkdirSync(out, { recursive: true })
    const bare = await new Hub().start()
    const first = await page(bare.url, desk)
    await first.page.getByText('Welcome').waitFor()
    await first.page.waitForTimeout(500)
    await first.page.screenshot({ path: join(out, 'first-start.png') })
    await bare.remove()

    const hub = new Hub()
    hub.http = 8480 // as it is by default, since pages show it
    hub.mqtt = 1883
    hub.udp = 8481
    await hub.start('demo')
    const word = /mo\s+(\S+-\d+)\s+owner/.exec(hub.said)![1]!
    const { page: p, context } = await page(hub.url, desk)
    await signIn(p, 'mo', word)
    const row = p.locator('[data-control="drying_room.heater"]')
    await row.getByRole('button', { name: 'On', exact: true }).click()
    await p.locator('[data-control="shelf_fan.fan"]').getByRole('button', { name: 'On', exact: true }).click()
    await until('on', async () => /^on\b/.test(await row.locator('.state').innerText()))
    await p.waitForTimeout(45_000)
    const state = await context.storageState()
    const week = '/charts?s=drying_room.temperature,drying_room.humidity,drying_room.heater.is&span=604800000'
    for (const [name, path, size, theme] of [
      ['now', '/', desk, 'light'],
      ['now-phone', '/', phone, 'dark'],
      ['dashboard', '/dashboards/workshop', desk, 'dark'],
      ['drawing', '/dashboards/slip_circuit', desk, 'light'],
      ['wall', '/dashboards/door/wall', desk, 'dark'],
      ['charts', week, desk, 'light'],
      ['control', '/control', desk, 'dark'],
      ['signal', '/signals/drying_room.temperature?span=604800000', desk, 'light'],
      ['device', '/devices/shed_battery', desk, 'light'],
      ['household', '/household', desk, 'light'],
      ['add-device', '/devices/new', desk, 'light'],
      ['alerts', '/alerts', desk, 'light'],
      ['digest', '/digest', desk, 'light'],
      ['journal', '/journal', desk, 'light'],
      ['settings', '/settings', desk, 'dark'],
    ] as const) {
      const c = await context.browser()!.newContext({
        viewport: size,
        colorScheme: theme,
        storageState: { ...state, origins: [] },
        isMobile: size === phone,
        hasTouch: size === phone,
      })
      const q = await c.newPage()
      await q.goto(hub.url + path)
      await q.waitForTimeout(1800)
      if (name === 'charts' || name === 'signal') await q.locator('.u-over').first().waitFor()
      if (name === 'device') await q.locator('[data-edit="shed_battery.battery"]').getByRole('button', { name: 'Calibrate' }).click()
      if (name === 'control') await q.locator('[data-automation="drying_room.heater"]').getByRole('button', { name: 'Change' }).click()
      if (name === 'add-device') {
        await q.getByLabel('What is it called?').fill('Damp cupboard')
        await q.getByLabel('Where is it?').fill('Drying room')
        await q.getByRole('button', { name: 'Add it' }).click()
      }
      await q.waitForTimeout(900)
      await q.screenshot({ path: join(out, name + '.png') })
      await c.close()
    }

    const home = mkdtempSync(join(tmpdir(), 'home-'))
    const run = (...args: string[]) => {
      try {
        return execFileSync(binary, args, {
          env: { HOME: home, TZ: 'Europe/Vienna', IDLEEMBER_HUB: hub.url, IDLEEMBER_PASSWORD: word, PATH: process.env.PATH },
        }).toString()
      } catch (e) {
        return String((e as { stdout: Buffer }).stdout) + String((e as { stderr: Buffer }).stderr)
      }
    }
    run('login', '--account', 'mo')
    const screens: Record<string, string[][]> = {
      'cli-now': [
        ['now'],
        ['switch', 'drying_room.heater', 'off'],
        ['switch', 'drying_room.heatr', 'off'],
        ['devices'],
        ['journal', 'drying_room.heater'],
      ],
      'cli-history': [
        ['devices', 'traffic', 'shed_battery'],
        ['history', 'drying_room.temperature', '--from', '2d', '--plot'],
        ['history', 'drying_room.heater.is', '--from', '1d'],
      ],
      'cli-deciding': [
        ['say', 'kiln'],
        ['alerts'],
        ['digest'],
        ['why', 'drying_room.heater'],
        ['set', 'drying_room.setpoint', '24'],
        ['next'],
        ['rules'],
        ['formula', 'mean(drying_room.humidity, "10m") > 50 and hour < 23'],
      ],
    }
    const screen = await (await context.browser()!.newContext({ viewport: desk })).newPage() // not under the console's own policy
    for (const [name, commands] of Object.entries(screens)) {
      const quoted = (a: string) => (/[{ ]/.test(a) ? `'${a}'` : a)
      const text = commands
        .map(
          (c) =>
            `$ idleember ${c.map(quoted).join(' ')}\n${run(...c)
              .split('\n')
              .slice(-14)
              .join('\n')}`,
        )
        .join('\n')
      await screen.setContent(
        `<body style="margin:0;background:#161719"><pre style="margin:18px;color:#ece8e1;font:13.5px/1.35 monospace"></pre></body>`,
      )
      await screen.evaluate((t) => {
        document.querySelector('pre')!.textContent = t
      }, text)
      await screen.screenshot({ path: join(out, name + '.png') })
    }
    rmSync(home, { recursive: true })
    await hub.remove()
  },
  240_000,
)
