// Parts of sentences: names, moments, schedules and conditions, as people say them.
import type { Condition, Moment, Schedule } from './api'
import { length } from './format'
import { useHub } from './hub'
import { zonedText } from './zoned'

const two = (n: number) => String(n).padStart(2, '0')
export const clock = (minutes: number) => `${two(Math.floor(minutes / 60))}:${two(minutes % 60)}`
const days = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun']

/** The name of what a formula names, where it names one thing. */
export function nameOf(formula = ''): string {
  const hub = useHub()
  const id = formula.trim()
  const s = hub.signals[id] ?? hub.controls[id]
  const place = s && hub.places.find((p) => p.id === s.state.place)?.name
  if (s) return place && !s.config.name.toLowerCase().startsWith(place.toLowerCase().split(' ')[0]!) ? `${place}: ${s.config.name.toLowerCase()}` : s.config.name
  return hub.settings[id]?.config.name.toLowerCase() ?? id
}

export function momentText(m: Moment | undefined): string {
  if (!m) return ''
  let text = m.base === 'clock' ? clock(m.minutes) : m.minutes ? `${Math.abs(m.minutes)} min ${m.minutes < 0 ? 'before' : 'after'} ${m.base}` : m.base
  if (m.not_before !== undefined) text += `, not before ${clock(m.not_before)}`
  if (m.not_after !== undefined) text += `, not after ${clock(m.not_after)}`
  return text
}

export function scheduleText(s: Schedule | undefined): string {
  const parts = (s?.windows ?? []).map((w) => {
    const on = w.days?.length ? ` on ${w.days.map((d) => days[d - 1]).join(', ')}` : ''
    const span = w.end ? `to ${momentText(w.end)}` : `for ${length(w.for_ms ?? 0)}`
    const again = w.times ? `, ${w.times} times every ${length(w.every_ms ?? 0)}` : ''
    return `from ${momentText(w.start)} ${span}${again}${on}`
  })
  if (s?.once?.length) parts.push(s.once.length === 1 ? `once on ${zonedText(Date.parse(s.once[0]!.at), useHub().zone).replace('T', ' at ')} for ${length(s.once[0]!.for_ms)}` : `${s.once.length} single runs`)
  const rests = s?.except?.length ? `, but not on ${s.except.length > 3 ? `${s.except.length} days` : s.except.join(', ')}` : ''
  return (parts.join(' and ') || 'never') + rests
}

export function conditionText(c: Condition): string {
  return `${c.when}${c.after_ms ? ` for ${length(c.after_ms)}` : ''}${c.until ? `, until ${c.until}` : ''}`
}
