// Starts a real hub on loopback and a board that nobody here wrote, for tests of the console in a real browser.
import { type ChildProcess, spawn, spawnSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { createServer } from 'node:net'
import { tmpdir } from 'node:os'
import { join, resolve } from 'node:path'
import { type Browser, type BrowserContext, type Page, chromium } from 'playwright-core'

export const password = 'a long enough password'
const binary = process.env.BIN ?? resolve(import.meta.dirname, '../../bin/idleember')
export const flags = [
  '--no-sandbox',
  '--disable-gpu',
  '--disable-quic',
  '--no-first-run',
  '--disable-background-networking',
  '--disable-component-update',
  '--disable-sync',
  // Only the last list of features counts, so this one names what Playwright switches off too. The last two are pages of the desktop's
  // address bar, which it loads beside each new tab: they took half a second of a core while a page was to be seen or measured.
  '--disable-features=AvoidUnnecessaryBeforeUnloadCheckSync,DestroyProfileOnBrowserClose,HttpsUpgrades,HttpsFirstBalancedModeAutoEnable,LensOverlay,MediaRouter,PaintHolding,' +
    'ThirdPartyStoragePartitioning,AvoidCorsURLLoaderRestartOnRedirect,OptimizationHints,NetworkTimeServiceQuerying,AimEnabled,PreconnectToSearch,WebUIOmniboxPopup,WebUIOmniboxAimPopup',
]

export const phone = { width: 390, height: 844 }
export const flat = { width: 844, height: 390 }
export const desk = { width: 1280, height: 800 }

async function freePort(): Promise<number> {
  return new Promise((done) => {
    const s = createServer().listen(0, '127.0.0.1', () => {
      const { port } = s.address() as { port: number }
      s.close(() => done(port))
    })
  })
}

export const sleep = (ms: number) => new Promise((r) => setTimeout(r, ms))

export async function until<T>(what: string, f: () => T | Promise<T>, ms = 25_000): Promise<T> {
  const end = Date.now() + ms
  for (;;) {
    const got = await f()
    if (got) return got
    if (Date.now() > end) throw new Error('waited in vain for ' + what)
    await sleep(50)
  }
}

export class Hub {
  dir = ''
  http = 0
  mqtt = 0
  udp = 0
  https = 0
  house = false // open to the house, with TLS too
  said = ''
  boards: Board[] = [] // they leave with the hub
  private child?: ChildProcess

  async start(command = 'serve'): Promise<this> {
    this.dir ||= mkdtempSync(join(tmpdir(), 'idleember-'))
    const known = this.http
    this.http ||= await freePort()
    this.mqtt ||= await freePort()
    this.said = ''
    this.child = spawn(binary, [
      command,
      '--data',
      this.dir,
      '--http',
      `${this.house ? '0.0.0.0' : '127.0.0.1'}:${this.http}`,
      ...(this.house ? ['--https', `0.0.0.0:${(this.https ||= await freePort())}`] : []),
      '--mqtt',
      `127.0.0.1:${this.mqtt}`,
      '--mqtts',
      '',
      ...(command === 'demo' ? ['--udp', `127.0.0.1:${(this.udp ||= await freePort())}`] : ['--udp', '']),
    ])
    this.child.stdout!.on('data', (b) => (this.said += b))
    this.child.stderr!.on('data', (b) => (this.said += b))
    const ready = await until(
      'the hub',
      () =>
        (command === 'demo' ? /To try/ : /--http :8480|Idle Ember is running\.\n/).test(this.said) ||
        (this.child!.exitCode !== null && 'ended'),
      150_000,
    )
    if (ready !== 'ended') return this
    if (known) throw new Error('the hub ended: ' + this.said)
    this.http = this.mqtt = this.udp = this.https = 0 // somebody else was given one of the free ports meanwhile
    return this.start(command)
  }
  async stop(signal: NodeJS.Signals = 'SIGTERM') {
    const child = this.child
    if (!child || child.exitCode !== null || child.signalCode !== null) return
    const gone = new Promise((r) => child.once('exit', r))
    child.kill(signal)
    await gone
  }
  /** Stops it in its tracks, or lets it go on. */
  signal(s: NodeJS.Signals) {
    this.child!.kill(s)
  }
  async remove() {
    this.boards.forEach((b) => b.disconnect())
    await this.stop('SIGKILL')
    if (this.dir) rmSync(this.dir, { recursive: true, force: true })
  }
  /** What a person in front of the demo types. */
  type(line: string) {
    this.child!.stdin!.write(line + '\n')
  }
  get url() {
    return `http://127.0.0.1:${this.http}`
  }
  get setupCode() {
    return readFileSync(join(this.dir, 'setup-code'), 'utf8').trim()
  }

  /** Creates the owner mo without the console. */
  async setUp() {
    const r = await fetch(this.url + '/api/v1/setup', {
      method: 'POST',
      headers: { 'Content-Type': 'application/json' },
      body: JSON.stringify({
        code: this.setupCode,
        name: 'Rowan Lane studio',
        latitude: 48.2,
        longitude: 16.4,
        zone: 'Europe/Vienna',
        account: 'mo',
        person: 'Mo',
        password,
      }),
    })
    this.cookie = r.headers.getSetCookie()[0]!.split(';')[0]!
  }
  cookie = ''
  async call<T>(method: string, path: string, body?: unknown, headers: Record<string, string> = {}): Promise<T> {
    const r = await fetch(this.url + '/api/v1' + path, {
      method,
      headers: { Cookie: this.cookie, 'Content-Type': 'application/json', ...headers },
      body: body ? JSON.stringify(body) : undefined,
    })
    if (!r.ok) throw new Error(`${method} ${path}: ${r.status} ${await r.text()}`)
    return (await r.json()) as T
  }
  async device(id: string, place = 'Drying room'): Promise<string> {
    return (await this.call<{ key: string }>('POST', '/devices', { id, name: 'Drying room', place })).key
  }
}

/** A board made of mosquitto_pub and mosquitto_sub: it confirms every want unless it is mute. */
export class Board {
  mute = false
  heard: string[] = []
  private sub?: ChildProcess
  constructor(
    private hub: Hub,
    readonly id: string,
    readonly key: string,
  ) {
    hub.boards.push(this)
  }
  private sign() {
    return ['-h', '127.0.0.1', '-p', String(this.hub.mqtt), '-u', this.id, '-P', this.key]
  }
  publish(topic: string, payload: string) {
    const r = spawnSync('mosquitto_pub', [...this.sign(), '-q', '1', '-t', `ember/${this.id}/${topic}`, '-m', payload])
    if (r.status !== 0) throw new Error(String(r.stderr))
  }
  connect(): this {
    this.sub = spawn('mosquitto_sub', [...this.sign(), '-i', this.id, '-k', '10', '-q', '1', '-v', '-t', `ember/${this.id}/#`])
    this.sub.stdout!.on('data', (b: Buffer) => {
      for (const line of String(b).split('\n').filter(Boolean)) {
        this.heard.push(line)
        const want = /want\/(\w+) (on|off)/.exec(line)
        if (want && !this.mute) this.publish('is/' + want[1], want[2]!)
      }
    })
    return this
  }
  disconnect() {
    this.sub?.kill('SIGKILL')
  }
}

let shared: Browser | undefined
export async function browser(): Promise<Browser> {
  shared ??= await chromium.launch({ executablePath: '/usr/bin/chromium', args: flags })
  return shared
}
export async function closeBrowser() {
  await shared?.close()
  shared = undefined
}

/** A page in a fresh profile; what the browser complains of is kept in faults. */
export async function page(
  url: string,
  size = desk,
  theme: 'light' | 'dark' = 'light',
): Promise<{ page: Page; context: BrowserContext; faults: string[] }> {
  const context = await (
    await browser()
  ).newContext({ viewport: size, colorScheme: theme, hasTouch: size.width < 900, isMobile: size.width < 900 })
  const p = await context.newPage()
  const faults: string[] = []
  p.on('pageerror', (e) => faults.push(String(e)))
  p.on('console', (m) => {
    if (m.type() === 'error' && !/Failed to load resource|net::ERR/.test(m.text())) faults.push(m.text())
  })
  await p.goto(url)
  return { page: p, context, faults }
}

export async function signIn(p: Page, account = 'mo', word = password) {
  await p.fill('#account', account)
  await p.fill('#password', word)
  await p.getByRole('button', { name: 'Sign in' }).click()
  await p.waitForSelector('.bar')
}

/** Whether anything sticks out sideways. */
export function overflow(p: Page): Promise<number> {
  return p.evaluate(() => document.documentElement.scrollWidth - window.innerWidth)
}
