// The one store: who is signed in, everything that one may see, and whether it is live.
import { defineStore } from 'pinia'
import { onUnmounted, shallowReactive, toRaw, watch } from 'vue'
import { shownUnit, shownValue } from './units'
import {
  api,
  ask,
  capital,
  HubError,
  type Alert,
  type Control,
  type Device,
  type HubStatus,
  type Me,
  type Place,
  type Preferences,
  type Preset,
  type Problem,
  type Setting,
  type Signal,
  type Snapshot,
  type Still,
  type Value,
  type Wall,
} from './api'

type Link = 'connecting' | 'live' | 'lost'

const quiet = 25_000 // the hub says something every 10 s; silence for longer means a lost connection
const cacheKey = 'last-seen'
const firstKey = 'first-view' // apart from the rest, so that it is read in no time
const keptForm = 4 // of what is kept: what an earlier console kept in another form is not read
const keptFor = 60_000 // what is seen is kept so often, and when the page is left

/** What this device saw last. */
type Kept = { form: typeof keptForm; at: number; account: string; me: Me | null; snap: Snapshot }
/** The part of it that first/first.js shows before anything else is loaded. */
type FirstView = { at: number; hub: string; places: { name: string; items: [name: string, value: string][] }[] }
function lastSeen(): Kept | null {
  try {
    const kept = JSON.parse(localStorage.getItem(cacheKey) ?? 'null') as Kept | null
    return kept?.form === keptForm ? kept : null
  } catch {
    forget()
    return null
  }
}

function forget() {
  localStorage.removeItem(cacheKey)
  localStorage.removeItem(firstKey)
}

/** What first/first.js asked before the console began, or else what is asked now. */
async function asked<T>(name: string, otherwise: () => Promise<T>): Promise<T> {
  const early = (window as { early?: Record<string, Promise<Response>> }).early
  const r = await early?.[name]?.catch(() => undefined)
  if (early) delete early[name]
  return r?.ok ? ((await r.json()) as T) : otherwise()
}

function byId<T extends { config: { id: string } }>(list: T[]): Record<string, T> {
  return Object.fromEntries(list.map((x) => [x.config.id, x]))
}

export const useHub = defineStore('hub', {
  state: () => ({
    me: null as Me | null,
    setupNeeded: false,
    zones: [] as string[],
    preferences: { theme: localStorage.getItem('theme') ?? undefined, accent: localStorage.getItem('accent') ?? undefined } as Preferences,
    preferencesKnown: false,
    wall: null as Wall | null, // this is a screen that nobody signed in to
    refused: false, // the hub does not let it in any more
    known: false, // whether it was found out who is signed in
    unreachable: '',
    heading: '', // of the page, where it has a name of its own
    status: null as HubStatus | null,
    places: [] as Place[],
    devices: {} as Record<string, Device>,
    signals: {} as Record<string, Signal>,
    controls: {} as Record<string, Control>,
    settings: {} as Record<string, Setting>,
    presets: [] as Preset[],
    alerts: {} as Record<string, Alert>, // that are not quiet
    locked: [] as string[], // controls and settings that one sees and may not switch
    loaded: false, // a snapshot is there, perhaps an old one
    link: 'connecting' as Link,
    heard: 0, // this device's time of the last event
    lostSince: 0,
    full: '', // why the hub opens no stream for this page
    now: Date.now(), // the hub's time, ticking
    minute: Date.now(), // the same for what need not be right to the second
    offset: 0, // the hub's time minus this device's
  }),
  getters: {
    zone: (s) => s.status?.zone || 'UTC',
    owner: (s) => s.me?.role === 'owner',
    member: (s) => s.me?.role === 'owner' || s.me?.role === 'member',
    maySwitch: (s) => (c: Control) => !s.locked.includes(c.config.id),
    maySet: (s) => (g: Setting) => !s.locked.includes(g.config.id),
  },
  actions: {
    /** Finds out whether the hub has an owner and who is signed in. Whoever was here last sees what was seen last meanwhile. */
    async begin() {
      const kept = lastSeen()
      if (kept?.me && !this.known) {
        this.me = kept.me
        this.take(kept.snap)
        this.known = true
      }
      try {
        const [setup, me, snap] = await Promise.all([
          asked('setup', () => ask(api.GET('/setup'))),
          asked<Me | null>('session', () =>
            ask(api.GET('/session')).catch((e: unknown) => {
              if (e instanceof HubError && e.status === 401) return null
              throw e
            }),
          ),
          asked<Snapshot | null>('now', () => Promise.resolve(null)),
        ])
        this.setupNeeded = setup.needed
        this.zones = setup.zones
        this.unreachable = ''
        if (me?.account !== this.me?.account) this.forget()
        if (me && snap) this.take(snap)
        this.me = setup.needed ? null : me
      } catch (e) {
        if (this.loaded && this.me) {
          // the page says that there is no connection, and goes on trying
          follow(this)
          lose(this)
          return
        }
        this.me = null
        if (e instanceof HubError && e.status === 0) this.unreachable = e.message
      }
      this.known = true
      if (this.me) this.enter(this.me)
    },
    /** Lets go of everything that somebody else may have seen. */
    forget() {
      forget()
      this.loaded = false
      Object.assign(this, {
        status: null,
        places: [],
        devices: {},
        signals: {},
        controls: {},
        settings: {},
        presets: [],
        alerts: {},
        preferencesKnown: false,
      })
    },
    /** Begins to follow the hub as somebody who just signed in. */
    enter(me: Me) {
      this.me = me
      this.setupNeeded = false
      this.recall()
      follow(this)
      this.readPreferences()
    },
    readPreferences() {
      reading = true
      preferring = preferring
        .then(() => ask(api.GET('/preferences')))
        .then((p) => {
          this.preferences = p
          this.preferencesKnown = true
        })
        .catch(() => undefined)
        .finally(() => (reading = false))
    },
    /** Begins to follow the hub as a wall. */
    stand(wall: Wall) {
      this.wall = wall
      this.known = true
      this.me = { account: `wall ${wall.id}`, name: wall.name, role: 'guest' }
      this.recall()
      follow(this)
    },
    /**
     * Changes how this person wants the console; it shows at once, and goes back where the hub does not take it. What the hub has is read
     * first, for another page of the same person may have changed it, and a page that has just opened does not know it yet.
     */
    prefer(change: (now: Preferences) => Partial<Preferences>) {
      const before = this.preferences
      this.preferences = { ...before, ...change(before) }
      const done = preferring
        .then(async () => {
          const now = await ask(api.GET('/preferences'))
          this.preferences = await ask(api.PUT('/preferences', { body: { ...now, ...change(now) } }))
          this.preferencesKnown = true
        })
        .catch((e: unknown) => {
          this.preferences = before
          throw e
        })
      preferring = done.catch(() => undefined)
      return done
    },
    /** Makes a signal or control a favourite, or none. */
    favour(id: string, yes: boolean) {
      return this.prefer(({ favourites = [] }) => ({ favourites: [...favourites.filter((x) => x !== id), ...(yes ? [id] : [])] }))
    },
    async leave() {
      stopFollowing()
      forget()
      try {
        await ask(api.DELETE('/session'))
      } finally {
        this.$reset()
        await this.begin()
      }
    },
    take(snap: Snapshot) {
      this.status = snap.hub
      this.places = snap.places.map((p) => p.config)
      this.devices = byId(snap.devices)
      this.signals = byId(snap.signals)
      this.controls = byId(snap.controls)
      this.settings = byId(snap.settings)
      this.presets = snap.presets ?? []
      this.alerts = byId(snap.alerts)
      this.locked = snap.locked ?? []
      this.loaded = true
    },
    /** Shows the last known values at once, until the live ones are there. They carry their age. */
    recall() {
      const kept = lastSeen()
      if (kept && kept.account === this.me?.account && !this.loaded) this.take(kept.snap)
    },
    /** The readings that come first, in words. */
    first(): FirstView['places'] {
      const all = toRaw(this.$state)
      return all.places
        .flatMap((p) => {
          const items = Object.values(all.signals)
            .filter((s) => s.state.place === p.id && s.state.value !== undefined && !all.devices[s.config.device]?.config.state)
            .map(
              (s) =>
                [s.config.name, `${shownValue(s.state.value, s.config.unit, s.config.decimals)} ${shownUnit(s.config.unit)}`.trim()] as [
                  string,
                  string,
                ],
            )
          return items.length ? [{ name: p.name, items: items.slice(0, 12) }] : []
        })
        .slice(0, 8)
    },
    keep() {
      if (!this.me || !this.status || this.link !== 'live') return
      const s = toRaw(this.$state) // nothing here is watched
      const snap = {
        hub: s.status!,
        places: s.places.map((config) => ({ config, state: {}, version: '' })),
        devices: Object.values(s.devices),
        signals: Object.values(s.signals),
        controls: Object.values(s.controls),
        settings: Object.values(s.settings),
        presets: s.presets,
        alerts: Object.values(s.alerts),
        locked: s.locked,
      }
      try {
        localStorage.setItem(
          cacheKey,
          JSON.stringify({
            form: keptForm,
            at: Date.now(),
            account: this.me.account,
            me: this.wall ? null : toRaw(this.me),
            snap,
          } satisfies Kept),
        )
        if (!this.wall)
          localStorage.setItem(firstKey, JSON.stringify({ at: Date.now(), hub: snap.hub.name, places: this.first() } satisfies FirstView))
      } catch {
        /* storage full or closed: then there is nothing to recall */
      }
    },
    hearAlert(a: Alert) {
      if (a.state.phase === 'normal') delete this.alerts[a.config.id]
      else this.alerts[a.config.id] = a
      alertListeners.forEach((f) => f(a))
    },
    hearHub(status: HubStatus) {
      this.status = status
      this.offset = Date.parse(status.time) - Date.now()
    },
    async reload() {
      this.take(await ask(api.GET('/now')))
    },
    /** Gives a control a value by hand, for a time where one is told. */
    async tell(id: string, to: Value, for_ms?: number) {
      this.takeControl(await ask(api.PUT('/controls/{id}/want', { params: { path: { id } }, body: { to, for_ms } })))
    },
    async auto(id: string) {
      this.takeControl(await ask(api.POST('/controls/{id}/auto', { params: { path: { id } } })))
    },
    async set(id: string, value: Value) {
      const s = await ask(api.PUT('/settings/{id}/value', { params: { path: { id } }, body: { value } }))
      if ((this.settings[id]?.state.rev ?? 0) <= s.state.rev) this.settings[id] = s
    },
    async apply(id: string, until?: string) {
      await ask(api.POST('/presets/{id}/apply', { params: { path: { id } }, body: until ? { until } : {} }))
    },
    takeControl(c: Control) {
      const id = c.config.id
      // The live stream may have been faster and told already how it went on.
      const have = this.controls[id]
      if (!have || have.state.rev < c.state.rev) this.controls[id] = c
    },
  },
})

type HubStore = ReturnType<typeof useHub>

let source: EventSource | null = null
let reading = false // preferences
let preferring: Promise<void> = Promise.resolve() // the last change of them; each waits for the one before
let stream = '' // its id
let timer = 0
const listeners = new Set<(s: Signal) => void>()
const dashboardListeners = new Set<(id: string) => void>()

/** Calls f with the id of every dashboard that was changed, until the returned function is called. */
export function onDashboard(f: (id: string) => void): () => void {
  dashboardListeners.add(f)
  return () => dashboardListeners.delete(f)
}

const alertListeners = new Set<(a: Alert) => void>()
/** Calls f for every alert that changes, until the returned function is called. */
export function onAlert(f: (a: Alert) => void): () => void {
  alertListeners.add(f)
  return () => alertListeners.delete(f)
}

const stillListeners = new Set<(s: Still) => void>()
/** Calls f for every picture that is taken, until the returned function is called. */
export function onStill(f: (s: Still) => void): () => void {
  stillListeners.add(f)
  return () => stillListeners.delete(f)
}

/** Calls f for every new reading until the returned function is called. */
export function onReading(f: (s: Signal) => void): () => void {
  listeners.add(f)
  return () => listeners.delete(f)
}

// What the parts of a page show. Where none says, everything is wanted.
const wishes = shallowReactive(new Map<symbol, () => string[]>())

/** Says which signals this part of the page shows; the new values of others are not sent while it is there. */
export function useOnly(ids: () => string[]) {
  const key = Symbol()
  wishes.set(key, ids)
  onUnmounted(() => wishes.delete(key))
}

let narrowed = ''
let soon = 0
/** Tells the hub what the page shows now, once it has settled. */
function narrow() {
  window.clearTimeout(soon)
  soon = window.setTimeout(() => {
    const only = wishes.size ? [...new Set([...wishes.values()].flatMap((f) => f()))].sort() : undefined
    const wanted = JSON.stringify(only)
    if (!stream || wanted === narrowed) return
    narrowed = wanted
    void ask(api.PUT('/live/{stream}', { params: { path: { stream } }, body: only ? { only } : {} })).catch(() => (narrowed = 'unknown'))
  }, 150)
}
watch(() => (wishes.size ? [...wishes.values()].flatMap((f) => f()).join() : null), narrow)

type NewValue = Pick<Signal['state'], 'value' | 'raw_value' | 'at' | 'heard' | 'quality' | 'interval_ms'> & { id: string }

// Many readings a second are one change of the page: what came within a moment is taken together.
const moment = 80
let queue: Signal[] = []
let flushing = 0
function flush(hub: HubStore) {
  window.clearTimeout(flushing)
  flushing = 0
  if (!queue.length) return
  const list = queue
  queue = []
  const last = new Map<string, Signal>()
  for (const x of list) last.set(x.config.id, x)
  for (const x of last.values()) {
    const have = hub.signals[x.config.id]
    if (have?.version !== x.version) {
      hub.signals[x.config.id] = x
      continue
    }
    // Field by field, so that only what changed is drawn anew.
    const state = have.state as Record<string, unknown>
    for (const [k, v] of Object.entries(x.state)) if (state[k] !== v) state[k] = v
    for (const k of Object.keys(state)) if (!(k in x.state)) delete state[k]
  }
  for (const x of list) listeners.forEach((f) => f(x))
}

function follow(hub: HubStore) {
  stopFollowing()
  open(hub)
  let kept = 0
  timer = window.setInterval(() => {
    hub.now = Date.now() + hub.offset
    if (hub.now - hub.minute > 15_000 || hub.now < hub.minute) hub.minute = hub.now
    if (hub.link === 'live' && Date.now() - hub.heard > quiet) lose(hub)
    if (hub.link === 'lost' && source?.readyState === EventSource.CLOSED && Date.now() - tried > (hub.full ? 10_000 : 900)) open(hub)
    if (Date.now() - kept > keptFor) {
      kept = Date.now()
      hub.keep()
    }
  }, 1000)
  document.addEventListener('visibilitychange', wake)
  window.addEventListener('pagehide', leaving)
}
const leaving = () => useHub().keep()

function stopFollowing() {
  source?.close()
  source = null
  window.clearInterval(timer)
  document.removeEventListener('visibilitychange', wake)
  window.removeEventListener('pagehide', leaving)
}

// A phone that slept has a dead connection and does not know it.
function wake() {
  const hub = useHub()
  if (document.visibilityState === 'hidden') hub.keep()
  if (document.visibilityState === 'visible' && hub.me && Date.now() - hub.heard > 12_000) open(hub)
}

function lose(hub: HubStore) {
  if (hub.link !== 'lost') hub.lostSince = hub.heard || Date.now()
  hub.link = 'lost'
}

let tried = 0
function open(hub: HubStore) {
  tried = Date.now()
  source?.close()
  const s = new EventSource('/api/v1/live?values=true')
  source = s
  const on = <T>(kind: string, f: (data: T) => void) =>
    s.addEventListener(kind, (e) => {
      hub.heard = Date.now()
      hub.link = 'live'
      hub.full = ''
      f(JSON.parse((e as MessageEvent).data))
    })
  on<Snapshot>('reset', (snap) => {
    queue = []
    hub.take(snap)
    hub.hearHub(snap.hub)
    hub.keep()
    if (!hub.preferencesKnown && !hub.wall && !reading) hub.readPreferences()
  })
  on<{ id: string }>('stream', (x) => {
    stream = x.id
    narrowed = 'undefined'
    narrow()
  })
  on<Signal>('signal', (x) => {
    queue.push(x)
    flushing ||= window.setTimeout(() => flush(hub), moment)
  })
  // Of many values at once each is only what is new of its signal.
  on<NewValue[]>('values', (list) => {
    flush(hub) // what came before
    for (const x of list) {
      const signal = hub.signals[x.id]
      if (!signal) continue
      const s = signal.state
      s.value = x.value
      s.at = s.heard = x.at
      if (x.heard) s.heard = x.heard
      if (s.quality !== x.quality) s.quality = x.quality
      if (s.interval_ms !== x.interval_ms) s.interval_ms = x.interval_ms
      if (s.raw_value !== x.raw_value) s.raw_value = x.raw_value
      listeners.forEach((f) => f(signal))
    }
  })
  on<Control>('control', (x) => (hub.controls[x.config.id] = x))
  on<Setting>('setting', (x) => (hub.settings[x.config.id] = x))
  on<Device>('device', (x) => (hub.devices[x.config.id] = x))
  on<{ id: string }>('dashboard', (x) => dashboardListeners.forEach((f) => f(x.id)))
  on<Alert>('alert', (x) => hub.hearAlert(x))
  on<Still>('still', (x) => stillListeners.forEach((f) => f(x)))
  on<HubStatus>('hub', (x) => hub.hearHub(x))
  on('site', () => void hub.reload().catch(() => lose(hub)))
  s.onerror = () => {
    lose(hub)
    if (s.readyState === EventSource.CLOSED) void stillSignedIn(hub)
  }
}

/** What the hub says where it has no stream for one page more; an event source does not tell. */
async function whyFull(): Promise<string> {
  const ended = new AbortController()
  try {
    const r = await fetch('/api/v1/live?values=true', { signal: ended.signal })
    return r.status === 429 ? capital(((await r.json()) as Partial<Problem>).detail ?? '') : ''
  } finally {
    ended.abort()
  }
}

async function stillSignedIn(hub: HubStore) {
  try {
    if (hub.wall) await ask(api.POST('/wall', { body: {} }))
    else await ask(api.GET('/session'))
    hub.full = await whyFull()
  } catch (e) {
    if (hub.wall) {
      hub.refused = e instanceof HubError && e.status === 401
      return
    }
    if (e instanceof HubError && e.status === 401) {
      stopFollowing()
      hub.$reset()
      await hub.begin()
    }
  }
}
