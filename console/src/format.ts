// How values, ages and times are written for people.
import { reactive } from 'vue'
import type { Control, Device, Saying, Signal } from './api'
import units from './units.gen.json'

/** How the person who is signed in wants numbers and times written. */
export const style = reactive({ comma: false, clock12: false, units: '' })

/** What people read for a UCUM symbol. */
export function unitSign(ucum: string): string {
  return (units.signs as Record<string, string>)[ucum] ?? ucum
}

/** A value as people read it, without its unit: 21.4, on, wet, or a dash where there is none. */
export function valueText(v: unknown, decimals = 0): string {
  if (typeof v === 'number')
    return v
      .toFixed(decimals)
      .replace(/^-(?=[0.]*$)/, '')
      .replace('-', '−')
      .replace('.', style.comma ? ',' : '.')
  if (typeof v === 'boolean') return v ? 'on' : 'off'
  return typeof v === 'string' ? v : '–'
}

/** A length of time, short: 45 s, 12 min, 3 h 20 min, 5 days. */
export function length(ms: number): string {
  const s = Math.max(0, Math.floor(ms / 1000))
  if (s < 60) return `${s} s`
  const min = Math.floor(s / 60)
  if (min < 60) return `${min} min`
  const h = Math.floor(min / 60)
  if (h < 48) return min % 60 && h < 10 ? `${h} h ${min % 60} min` : `${h} h`
  return `${Math.floor(h / 24)} days`
}

export function since(iso: string | undefined, now: number): string {
  return iso ? length(now - Date.parse(iso)) : ''
}

/** What a control is or should be, in words: on, 40 %, open. */
export function amountText(c: { config: Pick<Control['config'], 'kind'> }, v: Control['state']['is']): string {
  if (typeof v === 'number' && c.config.kind === 'level') return `${Math.round(v)} %`
  if (c.config.kind === 'mover')
    return ({ open: 'open', close: 'shut', stop: 'half way' } as Record<string, string>)[String(v)] ?? valueText(v)
  return valueText(v)
}

/** Whether a control runs: on, above 0 %, not shut. */
export function runs(v: Control['state']['is']): boolean {
  return v === true || (typeof v === 'number' && v > 0) || v === 'open'
}

/** A sentence of the hub with its clocks put in as they stand now. */
export function said(x: Saying, now: number): string {
  const left = x.until ? length(Date.parse(x.until) - now) : ''
  return x.text.replaceAll('{age}', since(x.since, now)).replaceAll('{left}', left)
}

/** The state of a control in a few words, and what to make of it. */
export function controlState(c: Control, now: number): { words: string; tone: Control['state']['tone'] } {
  return { words: said(c.state.says, now), tone: c.state.tone }
}

/** How a signal's age is told: nothing while it is live and fresh. */
export function signalAge(s: Signal, now: number): string {
  if (s.state.fresh === 'unknown') return s.state.heard ? '' : 'never heard'
  const age = s.state.heard ? now - Date.parse(s.state.heard) : 0
  return s.state.fresh === 'stale' ? `${length(age)} old` : ''
}

/** Date and time in the hub's zone. */
export function clockText(ms: number, zone: string, options: Intl.DateTimeFormatOptions = { hour: '2-digit', minute: '2-digit' }): string {
  const key = zone + style.clock12 + JSON.stringify(options)
  let f = formatters.get(key)
  if (!f)
    formatters.set(
      key,
      (f = new Intl.DateTimeFormat('en-GB', { ...options, timeZone: zone || undefined, hourCycle: style.clock12 ? 'h12' : 'h23' })),
    )
  return f.format(ms)
}
const formatters = new Map<string, Intl.DateTimeFormat>() // making one takes a millisecond

export function dayText(ms: number, zone: string): string {
  return clockText(ms, zone, { weekday: 'short', day: '2-digit', month: 'short', hour: '2-digit', minute: '2-digit' })
}

/** What the links are called. */
export const linkNames: Record<Device['config']['link']['kind'], string> = {
  mqtt: 'MQTT, to this hub',
  http: 'HTTP, the board pushes',
  udp: 'UDP datagrams',
  modbus: 'Modbus TCP',
  lines: 'text lines, serial or TCP',
  poll: 'a page that the hub fetches',
  itself: 'the hub itself: how it is',
  outside: 'MQTT, a broker elsewhere',
}

/** Whether a device is there, and since when. */
export function deviceState(d: Device, now: number): { words: string; warn: boolean } {
  return { words: said(d.state.says, now), warn: !!d.state.warn }
}

/** How a device's messages come: every 10 s ± 0.2 s. */
export function rhythm(d: Device): string {
  if (!d.state.messages) return 'no message yet'
  if (!d.state.every_ms) return `${d.state.messages} so far`
  if (d.state.jitter_ms > d.state.every_ms / 4) return `irregular, about every ${fine(d.state.every_ms)}`
  return `every ${fine(d.state.every_ms)} ± ${fine(d.state.jitter_ms)}`
}

function fine(ms: number): string {
  return ms < 1000 ? `${ms} ms` : ms < 10_000 ? `${(ms / 1000).toFixed(1)} s` : length(ms)
}

/** Bytes as people write them: 12 B, 3.4 kB, 5.6 MB, 1.20 GB. */
export function size(n: number): string {
  return n >= 1e9
    ? `${(n / 1e9).toFixed(2)} GB`
    : n >= 1e6
      ? `${(n / 1e6).toFixed(1)} MB`
      : n >= 1e3
        ? `${(n / 1e3).toFixed(1)} kB`
        : `${n} B`
}

/** How long ago a day was: 12 days, 8 months, 3 years. */
export function dayAge(day: string, now: number): string {
  const days = Math.floor((now - Date.parse(day)) / 86_400_000)
  if (days < 0) return `in ${-days} ${days === -1 ? 'day' : 'days'}`
  if (days < 1) return 'today'
  const [n, what] = days < 60 ? [days, 'day'] : days < 730 ? [Math.floor(days / 30.44), 'month'] : [Math.floor(days / 365.25), 'year']
  return `${n} ${what}${n === 1 ? '' : 's'} ago`
}
