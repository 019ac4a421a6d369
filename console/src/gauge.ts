// Where a gauge begins and ends, and what a value on it means.
import type { Signal, Tile } from './api'

/** As told; else from what is plausible for the signal; else round numbers about the value. */
export function scaleOf(t: Tile, s: Signal): { low: number; high: number } {
  const sense = s.config.sense ?? {}
  const v = typeof s.state.value === 'number' ? s.state.value : 0
  const top = Math.max(10 ** Math.ceil(Math.log10(Math.abs(v) + 1)), 1)
  const low = t.low ?? sense.lowest ?? (v < 0 ? -top : 0)
  const high = t.high ?? sense.highest ?? top
  return high > low ? { low, high } : { low, high: low + 1 }
}

/** The meaning of the range that a value is in, the gravest where they overlap. */
export function toned(t: Tile, v: number): string {
  const inside = (t.ranges ?? []).filter((r) => v >= r.from && v <= r.to).map((r) => r.tone)
  return ['critical', 'warn', 'well'].find((x) => inside.includes(x as 'well')) ?? ''
}
