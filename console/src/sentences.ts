// What the hub decides of a control, read aloud. Only words are made here; what they mean is the hub's.
import type { Action, Automation, Condition, Demand, GroupConfig, Moment, RuleConfig, Schedule } from './api'
import { amountText, length } from './format'
import { useHub } from './hub'
import { zonedText } from './zoned'

const two = (n: number) => String(n).padStart(2, '0')
export const clock = (minutes: number) => `${two(Math.floor(minutes / 60))}:${two(minutes % 60)}`
const days = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun']

function nameOf(formula = ''): string {
  const hub = useHub()
  const id = formula.trim()
  const s = hub.signals[id] ?? hub.controls[id]
  const place = s && hub.places.find((p) => p.id === s.place)?.name
  if (s) return place && !s.name.toLowerCase().startsWith(place.toLowerCase().split(' ')[0]!) ? `${place}: ${s.name.toLowerCase()}` : s.name
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

function conditionText(c: Condition): string {
  return `${c.when}${c.after_ms ? ` for ${length(c.after_ms)}` : ''}${c.until ? `, until ${c.until}` : ''}`
}

export function demandText(d: Demand): string {
  switch (d.kind) {
    case 'hold_above': return `while ${nameOf(d.of)} is below ${nameOf(d.target)}${d.band ? ` by more than ${d.band}` : ''}`
    case 'hold_below': return `while ${nameOf(d.of)} is above ${nameOf(d.target)}${d.band ? ` by more than ${d.band}` : ''}`
    case 'schedule': return scheduleText(d.schedule)
    case 'day_length': return `while it is dark, until ${useHub().settings[d.hours?.trim() ?? '']?.state.text.replace(' h', '') ?? d.hours} hours of light are full`
    case 'exercise': return `at ${momentText(d.at)} for ${length(d.for_ms ?? 0)}, where it has not run for ${length(d.every_ms ?? 0)}`
    case 'curve': return `by a curve of ${nameOf(d.of)}`
    case 'regulate': return `as much as keeps ${nameOf(d.of)} at ${nameOf(d.target)}`
    default: return `when ${conditionText(d as Condition)}`
  }
}

/** The automation of a control in sentences. */
export function automationText(a: Automation | null, kind: string): string[] {
  if (!a) return []
  const lines: string[] = []
  const on = kind === 'mover' ? 'Open' : kind === 'level' ? 'Run' : kind === 'choice' ? 'Set' : 'On'
  ;(a.demands ?? []).forEach((d, i) => {
    const to = d.to === undefined ? '' : ` at ${kind === 'level' ? `${d.to} %` : d.to}`
    lines.push(`${i ? 'or ' : `${on} `}${i && to ? `${on.toLowerCase()}${to} ` : to}${demandText(d)}${d.floor ? ' (protects, whatever a preset says)' : ''}`)
  })
  if (a.permits?.length) lines.push(`but only if ${a.permits.map((p) => (p.name ? `${p.name} (${conditionText(p)})` : conditionText(p))).join(' and ')}`)
  for (const l of a.interlocks ?? []) lines.push(`forced ${l.to ? 'on' : 'to its safe value'} by “${l.name}” when ${conditionText(l)}${l.latch ? ', until somebody resets it' : ''}`)
  const m = a.limits ?? {}
  if (m.longest_on_ms) lines.push(`never longer than ${length(m.longest_on_ms)}, then a rest of ${length(m.rest_ms ?? 0)}`)
  if (m.shortest_on_ms || m.shortest_off_ms) lines.push([m.shortest_on_ms && `on for at least ${length(m.shortest_on_ms)}`, m.shortest_off_ms && `off for at least ${length(m.shortest_off_ms)}`].filter(Boolean).join(', '))
  if (a.proof) lines.push(`proof: ${a.proof.when} within ${length(a.proof.within_ms)}`)
  if (a.travel) lines.push(a.travel.pulses ? `moved by pulses of ${nameOf(a.travel.pulses)}` : `moved by ${nameOf(a.travel.opens)} and ${nameOf(a.travel.closes)}, ${length(a.travel.travel_ms)} from end to end`)
  return lines.map((line, i) => (i ? line : line.charAt(0).toUpperCase() + line.slice(1)))
}

export function actionText(a: Action): string {
  const hub = useHub()
  const c = hub.controls[a.id ?? '']
  const span = a.for_ms ? ` for ${length(a.for_ms)}` : ''
  switch (a.kind) {
    case 'control': return `${c?.name ?? a.id} ${c ? amountText(c, amountOf(c, a.to ?? 0)) : a.to}${span}`
    case 'auto': return `${c?.name ?? a.id} to auto`
    case 'pulse': return `pulse ${c?.name ?? a.id}`
    case 'setting': return `${nameOf(a.id)} to ${a.to ?? 0}`
    case 'preset': return `preset ${hub.presets.find((p) => p.config.id === a.id)?.config.name ?? a.id}`
    case 'message': return `say “${a.text}”`
    default: return `note “${a.text}”`
  }
}

/** An amount as the control's own value. */
export function amountOf(c: { kind: string; options?: string[] }, n: number) {
  if (c.kind === 'switch') return n !== 0
  if (c.kind === 'level') return n
  return c.options?.[n] ?? String(n)
}

export function ruleText(r: RuleConfig): string[] {
  return r.stages.map((s, i) => `${i ? 'Then when' : 'When'} ${s.when}${s.after_ms ? ` for ${length(s.after_ms)}` : ''}${s.if ? `, if ${s.if}` : ''}: ${s.actions.map(actionText).join(', ')}${i ? `; starts over ${s.until ? `when ${s.until}, or ` : ''}after ${length(s.within_ms || 48 * 3600_000)}` : ''}`)
    .concat(r.rest_ms ? [`then rest for ${length(r.rest_ms)}`] : [])
}

export function groupText(g: GroupConfig): string {
  const hub = useHub()
  const names = g.members.map((m) => (hub.controls[m.control]?.name ?? m.control) + (g.limit && m.watts ? ` ${m.watts} W` : ''))
  return g.limit ? `Together up to ${g.limit} W: ${names.join(', ')}` : `One at a time: ${names.join(', ')}`
}
