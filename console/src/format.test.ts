import { describe, expect, test } from 'vitest'
import type { Control, Device, Signal } from './api'
import { clockText, controlState, deviceState, length, rhythm, signalAge, unitSign, valueText } from './format'

const now = Date.parse('2026-03-02T09:00:00Z')
const control = (state: Partial<Control['state']>): Control => ({
  version: '1',
  config: { id: 'kiln.fan', name: 'Vent fan', device: 'kiln', raw: 'fan', confirm_after_ms: 5000, resume_within_ms: 0, safe: false, dangerous: false,
    at_device: 'follow', answers: true, guests: 'none', source: {}, target: {}, kind: 'switch' },
  state: { place: 'shed', has_lease: true, phase: 'confirmed', reason: '', rev: 1, online: true, ...state },
})

test('values', () => {
  expect(valueText(21.44, 1)).toBe('21.4')
  expect(valueText(-0.04, 1)).toBe('0.0')
  expect(valueText(-3.2, 1)).toBe('−3.2')
  expect([true, false, 'wet', undefined].map((v) => valueText(v))).toEqual(['on', 'off', 'wet', '–'])
  expect(['Cel', '%', '1'].map(unitSign)).toEqual(['°C', '%', ''])
})

test('lengths of time', () => {
  const s = 1000
  expect([-5, 0, 59 * s, 60 * s, 3600 * s, 3 * 3600 * s + 120 * s, 30 * 3600 * s, 72 * 3600 * s].map(length)).toEqual(
    ['0 s', '0 s', '59 s', '1 min', '1 h', '3 h 2 min', '30 h', '3 days'])
})

describe('the state of a control', () => {
  const since = new Date(now - 24 * 60_000).toISOString()
  test.each([
    [{ is: true, is_since: since }, 'on for 24 min', 'on'],
    [{ is: false, is_since: since }, 'off', 'off'],
    [{ phase: 'pending', is: false }, 'waiting for the board', 'wait'],
    [{ phase: 'pending', is: false, online: false }, 'waits for the board to come back', 'wait'],
    [{ phase: 'unconfirmed', is: false }, 'not confirmed', 'warn'],
    [{ phase: 'unconfirmed', online: false }, 'not confirmed, board offline', 'warn'],
    [{ phase: 'sent', want: true }, 'on sent, this board cannot confirm', 'on'],
    [{ is: true, online: false }, 'on when last heard', 'warn'],
    [{ phase: '' }, 'not yet reported', 'off'],
  ] as const)('%o', (c, words, tone) => {
    expect(controlState(control(c as Partial<Control['state']>), now)).toEqual({ words, tone })
  })
})

test('the age of a signal is told when it matters', () => {
  const s = (fresh: Signal['state']['fresh'], heard?: number) => ({ state: { fresh, heard: heard ? new Date(heard).toISOString() : undefined } }) as Signal
  expect(signalAge(s('live', now - 4000), now)).toBe('')
  expect(signalAge(s('stale', now - 14 * 60_000), now)).toBe('14 min old')
  expect(signalAge(s('unknown'), now)).toBe('never heard')
})

test("times are told in the hub's zone", () => {
  expect(clockText(now, 'Europe/Vienna')).toBe('10:00')
  expect(clockText(Date.parse('2026-07-01T22:30:00Z'), 'Europe/Vienna', { weekday: 'short', hour: '2-digit', minute: '2-digit' })).toBe('Thu 00:30')
})

test('presence and rhythm of devices', () => {
  const d = (state: Partial<Device['state']>, config: Partial<Device['config']> = {}) =>
    ({ config, state: { online: true, asleep: false, since: '2026-03-02T08:55:00Z', messages: 9, every_ms: 0, jitter_ms: 0, ...state } }) as Device
  expect(deviceState(d({}), now)).toEqual({ words: 'online for 5 min', warn: false })
  expect(deviceState(d({ online: false }), now)).toEqual({ words: 'offline for 5 min', warn: true })
  expect(deviceState(d({ online: false, since: undefined }), now).words).toBe('never connected')
  expect(deviceState(d({ asleep: true }, { wakes_ms: 600_000 }), now)).toEqual({ words: 'asleep for 5 min, wakes every 10 min', warn: false })
  expect(deviceState(d({ online: false }, { state: 'disabled' }), now)).toEqual({ words: 'disabled', warn: false })
  expect([d({ messages: 0 }), d({}), d({ every_ms: 10_000, jitter_ms: 40 }), d({ every_ms: 2500, jitter_ms: 2000 })].map(rhythm))
    .toEqual(['no message yet', '9 so far', 'every 10 s ± 40 ms', 'irregular, about every 2.5 s'])
})
