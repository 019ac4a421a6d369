// What needs a person, of all places or of some.
import type { RouteLocationRaw } from 'vue-router'
import { amountText, length, since, signalAge } from './format'
import { defineStore } from 'pinia'
import { computed } from 'vue'
import { useHub } from './hub'
import type { Alert } from './api'

export type Item = { key: string; what: string; words: string; to?: RouteLocationRaw; grave?: boolean }
const hiccup = 60_000 // a board that restarts is away for a moment
const long = 24 * 3600_000 // by hand for longer is worth a look

/** What needs a person anywhere, found out once for all who show it. */
export const useAttention = defineStore('attention', () => ({ items: computed(() => attention()) }))

/** What needs a person; of some places alone, and then what is critical anywhere too. known tells also what somebody acknowledged. */
export function attention(places?: string[], known = false): Item[] {
  const hub = useHub()
  const here = (place: string) => !places?.length || places.includes(place)
  const out: Item[] = []
  const page = (id: string): RouteLocationRaw => ({ name: 'signal', params: { id } })
  // What the hub raised itself comes first, and is not told twice.
  const raised = Object.values(hub.alerts).filter((a) => (here(a.state.place ?? '') || a.config.severity === 'critical') && (a.state.phase === 'active' || a.state.phase === 'returned' || (known && a.state.phase === 'acknowledged')))
  const told = new Set(raised.map((a) => a.config.of))
  for (const a of raised) out.push({ key: 'alert ' + a.config.id, what: a.config.name, words: alertWords(a, hub.minute) + (a.state.phase === 'acknowledged' ? ` · acknowledged by ${a.state.by ?? ''}` : ''), to: { name: 'alerts', query: { id: a.config.id } }, grave: a.config.severity === 'critical' })
  const controls = Object.values(hub.controls).filter((c) => here(c.state.place) && !hub.devices[c.config.device]?.config.state)
  for (const c of controls) {
    if (c.state.latched?.length) out.push({ key: c.config.id + ' latch', what: c.config.name, words: `held by ${c.state.latched.join(', ')} until somebody resets it`, to: page(c.config.id + '.is'), grave: true })
    if (c.state.proof === 'missing') out.push({ key: c.config.id + ' proof', what: c.config.name, words: `no effect: ${c.state.reason}`, to: page(c.config.id + '.is'), grave: true })
    if (c.state.phase === 'unconfirmed' && !c.config.momentary) out.push({ key: c.config.id + ' way', what: c.config.name, words: c.state.online ? 'not confirmed: the board has not said that it switched; the hub keeps sending' : 'not confirmed: the board is away and gets it when it is back', to: page(c.config.id + '.is') })
  }
  for (const d of Object.values(hub.devices)) {
    if (here(d.config.place) && !d.state.online && !d.config.state && !d.state.asleep && d.state.since && hub.minute - Date.parse(d.state.since) > hiccup) out.push({ key: d.config.id, what: d.config.name, words: `away for ${since(d.state.since, hub.minute)}; what is shown of it is old`, to: hub.member ? { name: 'device', params: { id: d.config.id } } : undefined })
  }
  for (const s of Object.values(hub.signals)) {
    const d = hub.devices[s.config.device]
    if (here(s.state.place) && s.state.fresh === 'stale' && s.config.reports === 'periodic' && (!d || (d.state.online && !d.config.state && !d.state.asleep))) out.push({ key: s.config.id, what: `${hub.places.find((p) => p.id === s.state.place)?.name ?? ''} ${s.config.name.toLowerCase()}`.trim(), words: `no reading for ${signalAge(s, hub.minute).replace(' old', '')}`, to: page(s.config.id) })
  }
  for (const c of controls) {
    const age = c.state.mode === 'manual' && !c.state.hand_until && c.state.want_at ? hub.minute - Date.parse(c.state.want_at) : 0
    if (age > long) out.push({ key: c.config.id + ' hand', what: c.config.name, words: `${amountText(c, c.state.want)} by hand for ${length(age)}; the hub does not decide meanwhile`, to: page(c.config.id + '.is') })
  }
  return out.filter((i) => i.key.startsWith('alert ') || !told.has(i.key.split(' ')[0]!)).sort((a, b) => Number(!!b.grave) - Number(!!a.grave))
}

/** What an alert has to say, in one line. */
export function alertWords(a: Alert, now: number): string {
  const age = a.state.since ? `for ${since(a.state.since, now)}` : ''
  if (a.state.phase === 'returned') return `it is over (${a.state.was}), and waits until somebody clears it`
  if (a.state.phase === 'shelved') return `shelved by ${a.state.by ?? ''} until ${a.state.until ? new Date(a.state.until).toLocaleString() : ''}`
  if (a.state.phase === 'out_of_service') return `out of service, by ${a.state.by ?? ''}`
  return [[a.state.value, a.state.limit].filter(Boolean).join(', '), age, (a.state.times ?? 0) > 1 ? `${a.state.times} times` : ''].filter(Boolean).join(' · ')
}
