// What the form for an alert asks for, by its kind. The hub checks the rest.
import type { AlertConfig } from './api'

/** What an alert is about: a signal of a kind, a control or a device; nothing where a formula says it. */
export type Thing = 'number' | 'onoff' | 'text' | 'control' | 'device' | 'nothing'

export interface AlertKind {
  says: string
  about: Thing[]
  /** How its number is called; none: it has none. */
  limit?: string
  whole?: boolean // of hours, say
  band?: boolean
  upper?: boolean
  early?: boolean
  /** How its time is called; none: it has none. */
  span?: string
  falls?: boolean
  word?: boolean
  formula?: boolean
  /** Its limits are lines over the past. */
  drawn?: boolean
  /** Of which things it can be tried on the past. */
  tried?: Thing[]
  /** A limit to begin with, by what was usual. */
  begins?: (low: number, high: number, range: number) => Partial<AlertConfig>
}

const little = 0.05 // beyond what was usual: so it is quiet at first, and says so when something is new
const above = (_low: number, high: number, range: number) => ({ limit: high + range * little })

export const alertKinds: Record<string, AlertKind> = {
  above: { says: 'is above', about: ['number'], limit: 'Limit', band: true, early: true, drawn: true, tried: ['number'], begins: above },
  below: {
    says: 'is below',
    about: ['number'],
    limit: 'Limit',
    band: true,
    early: true,
    drawn: true,
    tried: ['number'],
    begins: (low, _, range) => ({ limit: low - range * little }),
  },
  outside: {
    says: 'is outside a band',
    about: ['number'],
    limit: 'Lower end',
    upper: true,
    band: true,
    drawn: true,
    tried: ['number'],
    begins: (low, high, range) => ({ limit: low - range * little, upper: high + range * little }),
  },
  faster: {
    says: 'changes faster than',
    about: ['number'],
    limit: 'Limit',
    band: true,
    span: 'In, min',
    falls: true,
    begins: (_l, _h, range) => ({ limit: range / 2 }),
  },
  trend: { says: 'will reach, as it goes', about: ['number'], limit: 'Limit', band: true, span: 'Within, min', falls: true, begins: above },
  event: { says: 'is on, or says', about: ['onoff', 'text', 'control'], word: true, tried: ['onoff'] },
  service: { says: 'ran for so many hours', about: ['control'], limit: 'Hours', whole: true, begins: () => ({ limit: 500 }) },
  unconfirmed: { says: 'does not answer', about: ['control'] },
  no_effect: { says: 'has no effect', about: ['control'] },
  silent: { says: 'does not come for', about: ['number', 'onoff', 'text'], span: 'For, min', tried: ['number', 'onoff', 'text'] },
  unchanged: { says: 'does not change for', about: ['number', 'onoff'], span: 'For, min' },
  stale: { says: 'is missing', about: ['number'] },
  offline: { says: 'is away', about: ['device'] },
  formula: { says: 'formula', about: ['nothing'], formula: true },
}

export const kindsAbout = (t: Thing) => Object.keys(alertKinds).filter((k) => alertKinds[k]!.about.includes(t))
