import { expect, test } from 'vitest'
import { reach, traceOf } from './day'
import type { History } from './api'

const hour = 3600_000

test.each([
  [0, 24],
  [19 * hour, 24],
  [20 * hour, 7 * 24],
  [6 * 24 * hour, 31 * 24],
  [300 * 24 * hour, 366 * 24],
  [900 * 24 * hour, 366 * 24],
])('what began %d ms ago is shown with what was before', (ms, hours) => {
  expect(reach(ms)).toBe(hours * hour)
})

test('a longer past has wider steps, and its line is not broken between them', () => {
  const h = {
    series: 'kiln.chamber',
    kind: 'number',
    t: [0, 3 * hour],
    mean: [1, 2],
    gaps: [],
    step_ms: 0,
    hold_ms: 60_000,
  } as unknown as History
  expect(traceOf(h).hold).toBeLessThan(3 * hour)
  expect(traceOf(h, 31 * 24 * hour).hold).toBeGreaterThan(3 * hour)
})
