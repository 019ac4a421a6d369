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
  const raised = Object.values(hub.alerts).filter((a) => (here(a.place ?? '') || a.config.severity === 'critical') && (a.phase === 'active' || a.phase === 'returned' || (known && a.phase === 'acknowledged')))
  const told = new Set(raised.map((a) => a.config.of))
  for (const a of raised) out.push({ key: 'alert ' + a.id, what: a.config.name, words: alertWords(a, hub.minute) + (a.phase === 'acknowledged' ? ` · acknowledged by ${a.by ?? ''}` : ''), to: { name: 'alerts', query: { id: a.id } }, grave: a.config.severity === 'critical' })
  const controls = Object.values(hub.controls).filter((c) => here(c.place) && !hub.devices[c.device]?.state)
  for (const c of controls) {
    if (c.latched?.length) out.push({ key: c.id + ' latch', what: c.name, words: `held by ${c.latched.join(', ')} until somebody resets it`, to: page(c.id + '.is'), grave: true })
    if (c.proof === 'missing') out.push({ key: c.id + ' proof', what: c.name, words: `no effect: ${c.reason}`, to: page(c.id + '.is'), grave: true })
    if (c.phase === 'unconfirmed' && !c.momentary) out.push({ key: c.id + ' way', what: c.name, words: c.online ? 'not confirmed: the board has not said that it switched; the hub keeps sending' : 'not confirmed: the board is away and gets it when it is back', to: page(c.id + '.is') })
  }
  for (const d of Object.values(hub.devices)) {
    if (here(d.place) && !d.online && !d.state && !d.asleep && d.since && hub.minute - Date.parse(d.since) > hiccup) out.push({ key: d.id, what: d.name, words: `away for ${since(d.since, hub.minute)}; what is shown of it is old`, to: hub.member ? { name: 'device', params: { id: d.id } } : undefined })
  }
  for (const s of Object.values(hub.signals)) {
    const d = hub.devices[s.device]
    if (here(s.place) && s.state === 'stale' && s.reports === 'periodic' && (!d || (d.online && !d.state && !d.asleep))) out.push({ key: s.id, what: `${hub.places.find((p) => p.id === s.place)?.name ?? ''} ${s.name.toLowerCase()}`.trim(), words: `no reading for ${signalAge(s, hub.minute).replace(' old', '')}`, to: page(s.id) })
  }
  for (const c of controls) {
    const age = c.mode === 'manual' && !c.hand_until && c.want_at ? hub.minute - Date.parse(c.want_at) : 0
    if (age > long) out.push({ key: c.id + ' hand', what: c.name, words: `${amountText(c, c.want)} by hand for ${length(age)}; the hub does not decide meanwhile`, to: page(c.id + '.is') })
  }
  return out.filter((i) => i.key.startsWith('alert ') || !told.has(i.key.split(' ')[0]!)).sort((a, b) => Number(!!b.grave) - Number(!!a.grave))
}

/** What an alert has to say, in one line. */
export function alertWords(a: Alert, now: number): string {
  const age = a.since ? `for ${since(a.since, now)}` : ''
  if (a.phase === 'returned') return `it is over (${a.was}), and waits until somebody clears it`
  if (a.phase === 'shelved') return `shelved by ${a.by ?? ''} until ${a.until ? new Date(a.until).toLocaleString() : ''}`
  if (a.phase === 'out_of_service') return `out of service, by ${a.by ?? ''}`
  return [[a.value, a.limit].filter(Boolean).join(', '), age, (a.times ?? 0) > 1 ? `${a.times} times` : ''].filter(Boolean).join(' · ')
}
