// Whether what is shown of a thing is how it is now.
import { signalAge } from './format'
import type { useHub } from './hub'

type Hub = ReturnType<typeof useHub>

/** Why what is shown of a signal or control may not be how it is now, in a few words; '' where it is. */
export function doubt(hub: Hub, id: string): string {
  if (hub.link === 'lost') return 'not live'
  const s = hub.signals[id]
  if (s) return s.state.fresh !== 'live' ? signalAge(s, hub.now) || 'unknown' : s.state.quality !== 'good' ? s.state.quality : ''
  const c = hub.controls[id]
  if (c && !c.state.online && c.config.kind !== 'mover') return 'device offline'
  return c?.state.phase === 'unconfirmed' ? 'not confirmed' : ''
}
