// What needs a person, of all places or of some. What that is the hub says with each thing; here it is gathered.
import { defineStore } from 'pinia'
import { computed } from 'vue'
import type { RouteLocationRaw } from 'vue-router'
import type { Alert, Need } from './api'
import { said } from './format'
import { useHub } from './hub'

export type Item = { key: string; what: string; words: string; to?: RouteLocationRaw; grave?: boolean }

/** What needs a person anywhere, found out once for all who show it. */
export const useAttention = defineStore('attention', () => ({ items: computed(() => attention()) }))

/** What needs a person; of some places alone, and then what is critical anywhere too. known tells also what somebody acknowledged. */
export function attention(places?: string[], known = false): Item[] {
  const hub = useHub()
  const here = (place = '') => !places?.length || places.includes(place)
  const phases = known ? ['active', 'returned', 'acknowledged'] : ['active', 'returned']
  const raised = Object.values(hub.alerts).filter(
    (a) => phases.includes(a.state.phase) && (here(a.state.place) || a.config.severity === 'critical'),
  )
  const told = new Set(raised.map((a) => a.config.of)) // what an alert tells of is not told twice
  const out: Item[] = raised.map((a) => ({
    key: 'alert ' + a.config.id,
    what: a.config.name,
    words: alertWords(a, hub.minute),
    to: { name: 'alerts', query: { id: a.config.id } },
    grave: a.config.severity === 'critical',
  }))
  const gather = (id: string, needs: Need[] | undefined, to?: RouteLocationRaw) => {
    if (told.has(id)) return
    needs?.forEach((n, i) => {
      if (!n.from || Date.parse(n.from) < hub.minute)
        out.push({ key: `${id} ${i}`, what: n.what, words: said(n, hub.minute), to, grave: n.grave })
    })
  }
  const page = (id: string): RouteLocationRaw => ({ name: 'signal', params: { id } })
  for (const c of Object.values(hub.controls)) if (here(c.state.place)) gather(c.config.id, c.state.needs, page(c.config.id + '.is'))
  for (const d of Object.values(hub.devices))
    if (here(d.config.place)) gather(d.config.id, d.state.needs, hub.member ? { name: 'device', params: { id: d.config.id } } : undefined)
  for (const s of Object.values(hub.signals)) if (here(s.state.place)) gather(s.config.id, s.state.needs, page(s.config.id))
  return out.sort((a, b) => Number(!!b.grave) - Number(!!a.grave))
}

/** Where an alert stands, in one line. */
export const alertWords = (a: Alert, now: number): string => said(a.state.says, now)
