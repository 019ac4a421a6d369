import { expect, test } from 'vitest'
import type { Device, Signal } from './api'
import { clockText, length, rhythm, said, signalAge, unitSign, valueText } from './format'

const now = Date.parse('2026-03-02T09:00:00Z')
test('values', () => {
  expect(valueText(21.44, 1)).toBe('21.4')
  expect(valueText(-0.04, 1)).toBe('0.0')
  expect(valueText(-3.2, 1)).toBe('−3.2')
  expect([true, false, 'wet', undefined].map((v) => valueText(v))).toEqual(['on', 'off', 'wet', '–'])
  expect(['Cel', '%', '1'].map(unitSign)).toEqual(['°C', '%', ''])
})

test('lengths of time', () => {
  const s = 1000
  expect([-5, 0, 59 * s, 60 * s, 3600 * s, 3 * 3600 * s + 120 * s, 30 * 3600 * s, 72 * 3600 * s].map(length)).toEqual([
    '0 s',
    '0 s',
    '59 s',
    '1 min',
    '1 h',
    '3 h 2 min',
    '30 h',
    '3 days',
  ])
})

test('the clocks of a sentence run on', () => {
  const at = (ms: number) => new Date(now + ms).toISOString()
  expect(said({ text: 'on for {age}', since: at(-24 * 60_000) }, now)).toBe('on for 24 min')
  expect(said({ text: 'on, by hand for {left} more', until: at(3600_000) }, now)).toBe('on, by hand for 1 h more')
  expect(said({ text: 'never connected' }, now)).toBe('never connected')
})

test('the age of a signal is told when it matters', () => {
  const s = (fresh: Signal['state']['fresh'], heard?: number) =>
    ({ state: { fresh, heard: heard ? new Date(heard).toISOString() : undefined } }) as Signal
  expect(signalAge(s('live', now - 4000), now)).toBe('')
  expect(signalAge(s('stale', now - 14 * 60_000), now)).toBe('14 min old')
  expect(signalAge(s('unknown'), now)).toBe('never heard')
})

test("times are told in the hub's zone", () => {
  expect(clockText(now, 'Europe/Vienna')).toBe('10:00')
  expect(clockText(Date.parse('2026-07-01T22:30:00Z'), 'Europe/Vienna', { weekday: 'short', hour: '2-digit', minute: '2-digit' })).toBe(
    'Thu 00:30',
  )
})

test('the rhythm of devices', () => {
  const d = (state: Partial<Device['state']>, config: Partial<Device['config']> = {}) =>
    ({
      config,
      state: { online: true, asleep: false, since: '2026-03-02T08:55:00Z', messages: 9, every_ms: 0, jitter_ms: 0, ...state },
    }) as Device
  expect([d({ messages: 0 }), d({}), d({ every_ms: 10_000, jitter_ms: 40 }), d({ every_ms: 2500, jitter_ms: 2000 })].map(rhythm)).toEqual([
    'no message yet',
    '9 so far',
    'every 10 s ± 40 ms',
    'irregular, about every 2.5 s',
  ])
})
