import { expect, test } from 'vitest'
import { zonedInstant, zonedText } from './zoned'

test("a time of day means the hub's zone, in summer, in winter and where the clocks change", () => {
  for (const [text, at] of [
    ['2026-07-01T12:00', '2026-07-01T10:00:00Z'],
    ['2026-12-24T18:30', '2026-12-24T17:30:00Z'],
    ['2026-03-29T03:00', '2026-03-29T01:00:00Z'],
    ['2026-10-25T04:00', '2026-10-25T03:00:00Z'],
  ] as const) {
    expect(zonedInstant(text, 'Europe/Vienna')).toBe(Date.parse(at))
    expect(zonedText(Date.parse(at), 'Europe/Vienna')).toBe(text)
  }
  expect(zonedInstant('', 'Europe/Vienna')).toBeNaN()
})
