// What the hub decides of a control, read aloud. Only words are made here; what they mean is the hub's.
import type { Action, Automation, Control, Demand, GroupConfig, RuleConfig } from './api'
import { conditionText, nameOf } from './clauses'
import { demandKinds } from './demands'
import { amountText, length } from './format'
import { useHub } from './hub'

export function demandText(d: Demand): string {
  const kind = demandKinds[d.kind]?.kind
  return kind ? kind.says(d) : `in a way that this console does not know (${d.kind})`
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
    case 'control': return `${c?.config.name ?? a.id} ${c ? amountText(c, amountOf(c, a.to ?? 0)) : a.to}${span}`
    case 'auto': return `${c?.config.name ?? a.id} to auto`
    case 'pulse': return `pulse ${c?.config.name ?? a.id}`
    case 'setting': return `${nameOf(a.id)} to ${a.to ?? 0}`
    case 'preset': return `preset ${hub.presets.find((p) => p.config.id === a.id)?.config.name ?? a.id}`
    case 'message': return `say “${a.text}”`
    default: return `note “${a.text}”`
  }
}

/** An amount as the control's own value. */
export function amountOf(c: Control, n: number) {
  if (c.config.kind === 'switch') return n !== 0
  if (c.config.kind === 'level') return n
  return c.state.words?.[n] ?? String(n)
}

export function ruleText(r: RuleConfig): string[] {
  return r.stages.map((s, i) => `${i ? 'Then when' : 'When'} ${s.when}${s.after_ms ? ` for ${length(s.after_ms)}` : ''}${s.if ? `, if ${s.if}` : ''}: ${s.actions.map(actionText).join(', ')}${i ? `; starts over ${s.until ? `when ${s.until}, or ` : ''}after ${length(s.within_ms || 48 * 3600_000)}` : ''}`)
    .concat(r.rest_ms ? [`then rest for ${length(r.rest_ms)}`] : [])
}

export function groupText(g: GroupConfig): string {
  const hub = useHub()
  const names = g.members.map((m) => (hub.controls[m.control]?.config.name ?? m.control) + (g.limit && m.watts ? ` ${m.watts} W` : ''))
  return g.limit ? `Together up to ${g.limit} W: ${names.join(', ')}` : `One at a time: ${names.join(', ')}`
}
