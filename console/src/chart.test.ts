import { expect, test } from 'vitest'
import type { History } from './api'
import { appended, columns, csv, difference, figures, moved, panes, valueAt } from './chart'
import { runsOf, traceOf } from './day'

const history = (h: Partial<History>): History => ({
  series: 'a.b',
  name: 'B',
  unit: 'Cel',
  kind: 'number',
  decimals: 1,
  from: new Date(0).toISOString(),
  to: new Date(100).toISOString(),
  step_ms: 0,
  hold_ms: 15,
  t: [],
  gaps: [],
  ...h,
})

test('a gap is cut into the line, and nowhere else', () => {
  const c = columns(
    history({
      t: [0, 10, 60, 70],
      v: [1, 2, 3, 4],
      gaps: [
        [10, 60],
        [70, 100],
      ],
    }),
  )
  expect(c.t).toEqual([0, 10, 11, 60, 70, 71])
  expect(c.cols).toEqual([[1, 2, null, 3, 4, null]])
  expect(columns(history({ t: [50], v: [1], gaps: [[0, 50]] })).cols).toEqual([[1]])
})

test('a newer reading is appended to single ones', () => {
  const h = appended(
    history({
      t: [80, 90],
      v: [1, 2],
      gaps: [
        [10, 60],
        [90, 100],
      ],
    }),
    104,
    3,
    true,
  )
  expect([h.t, h.v, h.gaps, h.bad]).toEqual([[80, 90, 104], [1, 2, 3], [[10, 60]], [2]])
  expect(appended(h, 104, 9)).toBe(h)
  expect(appended(history({ t: [90], v: [2], gaps: [[90, 100]] }), 400, 3).gaps, 'it was away').toEqual([[90, 100]])
  const buckets = history({ t: [0], mean: [1] })
  expect(appended(buckets, 104, 9)).toBe(buckets)
})

test('buckets have a band', () => {
  const c = columns(history({ t: [0, 10], mean: [1, 2], min: [0, 1], max: [3, 4], step_ms: 10 }))
  expect(c.banded).toBe(true)
  expect(c.cols).toEqual([
    [1, 2],
    [0, 1],
    [3, 4],
  ])
})

test('signals of one unit share a pane, on one axis', () => {
  const a = history({ series: 'x.a', t: [0, 10], v: [1, 2] })
  const b = history({ series: 'x.b', unit: '%', t: [0], v: [50] })
  const c = history({ series: 'x.c', t: [5, 10], v: [7, 8] })
  const got = panes([a, b, c, history({ series: 'x.d', kind: 'text' })])
  expect(got.map((p) => [p.unit, p.histories.map((h) => h.series)])).toEqual([
    ['Cel', ['x.a', 'x.c']],
    ['%', ['x.b']],
  ])
  expect(got[0]!.data[0]).toEqual([0, 5, 10])
  expect(got[0]!.data[1]).toEqual([1, undefined, 2])
})

test('figures of the stretch', () => {
  expect(figures(history({ t: [0, 10, 20], v: [1, 2, 6] }))).toEqual({ last: 6, min: 1, mean: 3, max: 6 })
  expect(figures(history({ t: [0, 10, 20], v: [1, 2, 60], bad: [2] }))).toEqual({ last: 2, min: 1, mean: 1.5, max: 2 })
  expect(figures(history({ t: [0, 10], v: [1, 2], bad: [0, 1] }))).toEqual({})
  expect(figures(history({ t: [-50, 10, 20], v: [9, 2, 4] }))).toEqual({ last: 4, min: 2, mean: 3, max: 9 })
  expect(figures(history({ t: [0, 10], v: [1.7e308, 1.7e308] })).mean).toBe(1.7e308)
  expect(figures(history({ t: [0, 10], mean: [9, 4], min: [9, 3], max: [9, 6], last: [9, 5], count: [0, 2] }))).toEqual({
    last: 5,
    min: 3,
    mean: 4,
    max: 9,
  })
  expect(figures(history({ t: [0, 10], mean: [1, 4], min: [0, 3], max: [2, 9], last: [2, 5], count: [1, 2] }))).toEqual({
    last: 5,
    min: 0,
    mean: 3,
    max: 9,
  })
  expect(figures(history({ kind: 'onoff', t: [0, 40], v: [true, false] })).onMs).toBe(40)
  expect(
    figures(history({ kind: 'onoff', t: [0, 40], v: [true, false], gaps: [[10, 25]] })).onMs,
    'nobody knows what it was meanwhile',
  ).toBe(25)
  expect(figures(history({ kind: 'onoff', t: [0, 50], on_ms: [10, 5] })).onMs).toBe(15)
  expect(figures(history({ kind: 'text' }))).toEqual({})
})

test('the value under the cursor holds until the next one, but not over a gap', () => {
  const h = history({ t: [0, 10, 60], v: [1, 2, 3], gaps: [[10, 60]] })
  expect([-1, 0, 9, 30, 60, 99].map((t) => valueAt(h, t))).toEqual([undefined, 1, 1, undefined, 3, 3])
})

test('runs of a switch', () => {
  expect(runsOf(history({ kind: 'onoff', t: [0, 10, 20, 90], v: [true, true, false, true] }), 100)).toEqual([
    [0, 20],
    [90, 100],
  ])
  expect(runsOf(history({ kind: 'onoff', t: [0, 50], on_ms: [10, 0], step_ms: 50 }), 100)).toEqual([[0, 10]])
  expect(traceOf(history({ t: [0, 10], v: [1, 2] })).v).toEqual([1, 2])
})

test('an earlier stretch is moved under the one that is shown', () => {
  const g = moved(history({ t: [0, 10], v: [1, 2], gaps: [[3, 9]] }), 1000, 'a week')
  expect([g.series, g.name, g.t, g.gaps, Date.parse(g.to)]).toEqual(['a.b@a week', 'B, a week before', [1000, 1010], [[1003, 1009]], 1100])
  const data = panes([history({ t: [1005], v: [7] }), g])[0]!.data
  expect([data[0], data[1], data[4]]).toEqual([
    [1000, 1004, 1005, 1010],
    [undefined, undefined, 7, undefined],
    [1, null, null, 2],
  ])
})

test('what is shown becomes CSV, a line for each time', () => {
  const on = history({ series: 'a.on', kind: 'onoff', t: [10], v: [true] })
  expect(csv([history({ t: [0, 10], v: [1.5, 2] }), on])).toBe('t,a.b,a.on\n1970-01-01T00:00:00.000Z,1.5,\n1970-01-01T00:00:00.010Z,2,on\n')
  expect(csv([history({ t: [0], step_ms: 10, mean: [1], min: [0], max: [2], count: [3] })])).toBe(
    't,a.b mean,a.b min,a.b max,a.b count\n1970-01-01T00:00:00.000Z,1,0,2,3\n',
  )
})

test('a difference is known where both sides are', () => {
  const a = history({ series: 'x.a', name: 'In', t: [0, 20, 40], v: [5, 6, 7] })
  const b = history({ series: 'x.b', name: 'Out', t: [10, 30], v: [1, 2], gaps: [[30, 39]] })
  const d = difference(a, b)
  expect([d.series, d.name, d.t, d.v]).toEqual(['x.a~x.b', 'In − Out', [10, 20, 30, 40], [4, 5, 4, 5]])
  expect(difference(a, history({ ...b, gaps: [[30, 100]] })).t).toEqual([10, 20, 30])
})

test('a bad reading is no part of the line', () => {
  expect(columns(history({ t: [0, 10, 20], v: [1, 999, 3], bad: [1] })).cols).toEqual([[1, undefined, 3]])
})
