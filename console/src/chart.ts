// From histories to what the plot library takes: one time axis for a pane, gaps as nulls, a band from min to max.
import uPlot from 'uplot'
import type { History } from './api'
import { runsOf } from './day'

export type Column = (number | null | undefined)[]
export type Pane = { unit: string; histories: History[]; data: uPlot.AlignedData; banded: boolean[] }

type Columns = { t: number[]; cols: Column[]; banded: boolean }

/** Columns of one history: the value or mean, and min and max where there are buckets; null at the start of each gap. */
export function columns(h: History): Columns {
  const banded = !!h.mean
  const mid: Column = (h.mean ?? h.v ?? []).map(Number)
  for (const i of h.bad ?? []) mid[i] = undefined // drawn hollow, beside the line
  const sides = banded ? [h.min ?? [], h.max ?? []] : []
  const t: number[] = []
  const cols: Column[] = [[], ...sides.map(() => [] as Column)]
  let g = 0
  const cut = (upTo: number) => {
    while (g < h.gaps.length && h.gaps[g]![0]! < upTo) {
      const at = h.gaps[g]![0]! + 1
      if (t.length && at > t.at(-1)! && at < upTo) {
        t.push(at)
        cols.forEach((c) => c.push(null))
      }
      g++
    }
  }
  h.t.forEach((at, i) => {
    cut(at)
    t.push(at)
    cols[0]!.push(mid[i])
    sides.forEach((s, k) => cols[k + 1]!.push(s[i]!))
  })
  const end = Math.min(Date.parse(h.to), Date.now())
  if (!h.hold_ms && !banded && t.length && t.at(-1)! < end) {
    // what is told on change still holds
    t.push(end)
    cols[0]!.push(cols[0]!.at(-1))
  }
  cut(Infinity)
  return { t, cols, banded }
}

/** A history of single readings with one more, if that is newer than all; what ran to the end as a gap is closed by it. */
export function appended(h: History, at: number, value: NonNullable<History['v']>[number], bad = false): History {
  if (!h.v || at <= (h.t.at(-1) ?? 0)) return h
  const open = h.gaps.at(-1)
  const gaps = open && open[1]! >= Date.parse(h.to) - 1 && at - open[0]! < (h.hold_ms || Infinity) ? h.gaps.slice(0, -1) : h.gaps
  return { ...h, t: [...h.t, at], v: [...h.v, value], gaps, bad: bad ? [...(h.bad ?? []), h.t.length] : h.bad }
}

/** Groups number signals by unit, in the order in which they were chosen. */
export function panes(histories: History[]): Pane[] {
  const units = [...new Set(histories.filter((h) => h.kind === 'number').map((h) => h.unit))]
  return units.map((unit) => {
    const own = histories.filter((h) => h.kind === 'number' && h.unit === unit)
    const parts = own.map(columns)
    // Always three columns, so that the plot stays the same when readings take the place of buckets.
    const tables = parts.map(
      (p) =>
        [p.t, p.cols[0]!, p.cols[1] ?? p.t.map(() => undefined), p.cols[2] ?? p.t.map(() => undefined)] as unknown as uPlot.AlignedData,
    )
    const data =
      tables.length === 1
        ? tables[0]!
        : uPlot.join(
            tables,
            tables.map((t) => t.map(() => 2)),
          )
    return { unit, histories: own, data, banded: parts.map((p) => p.banded) }
  })
}

/**
 * Last, lowest, mean and highest of what is shown, as the hub reckons them: bad readings do not count, and what held at the start is one
 * of the values.
 */
export function figures(h: History): { last?: number; min?: number; mean?: number; max?: number; onMs?: number } {
  if (h.kind === 'onoff') {
    const to = Math.min(Date.parse(h.to), Date.now())
    const from = Date.parse(h.from)
    if (h.on_ms) return { onMs: h.on_ms.reduce((a, b) => a + b, 0) }
    return { onMs: runsOf(h, to).reduce((sum, [a, b]) => sum + Math.max(0, b - Math.max(a, from)), 0) }
  }
  if (h.kind !== 'number' || h.t.length === 0) return {}
  const mid = (h.mean ?? h.v ?? []).map(Number)
  const n = h.count ?? mid.map(() => 1)
  const bad = new Set(h.bad)
  const from = Date.parse(h.from)
  let mean = 0
  let count = 0
  let min = Infinity
  let max = -Infinity
  let last: number | undefined
  mid.forEach((v, i) => {
    if (bad.has(i)) return
    min = Math.min(min, h.min?.[i] ?? v)
    max = Math.max(max, h.max?.[i] ?? v)
    last = h.last?.[i] ?? v
    if (!n[i] || (!h.mean && h.t[i]! < from)) return // it only held
    count += n[i]!
    mean += (v / count) * n[i]! - (mean / count) * n[i]! // sums of numbers near the largest one would be none
  })
  return last === undefined ? {} : { last, min, mean: count ? mean : last, max }
}

/** The value of a series that holds at a time, for the cursor's column. */
export function valueAt(h: History, at: number): unknown {
  let lo = 0
  let hi = h.t.length
  while (lo < hi) {
    const mid = (lo + hi) >> 1
    if (h.t[mid]! <= at) lo = mid + 1
    else hi = mid
  }
  const i = lo - 1
  if (i < 0) return undefined
  if (h.gaps.some(([a, b]) => at > a! && at < b!)) return undefined
  if (h.mean && h.kind === 'onoff') return at - h.t[i]! < h.on_ms![i]!
  return (h.mean ?? h.v)?.[i]
}

/** One series less another, at all times of both where both are known. Buckets are taken at their means. */
export function difference(a: History, b: History): History {
  const times = [...new Set([...a.t, ...b.t])].sort((x, y) => x - y)
  const out: History = {
    ...a,
    series: `${a.series}~${b.series}`,
    name: `${a.name} − ${b.name}`,
    decimals: Math.max(a.decimals, b.decimals),
    hold_ms: Math.max(a.hold_ms, b.hold_ms),
    step_ms: Math.max(a.step_ms, b.step_ms),
    t: [],
    v: [],
    bad: [],
    mean: undefined,
    min: undefined,
    max: undefined,
    first: undefined,
    last: undefined,
    count: undefined,
    time_mean: undefined,
    on_ms: undefined,
    gaps: [...a.gaps, ...b.gaps].sort((x, y) => x[0]! - y[0]!),
  }
  for (const t of times) {
    const x = valueAt(a, t)
    const y = valueAt(b, t)
    if (typeof x !== 'number' || typeof y !== 'number') continue
    out.t.push(t)
    out.v!.push(x - y)
  }
  return out
}

/** What a chart is asked for: the series of it, with those that differences are made of. */
export const parts = (chosen: string[]) => [...new Set(chosen.flatMap((id) => id.split('~')))]

/** A history moved ahead in time, so that an earlier stretch lies under the one that is shown. */
export function moved(h: History, by: number, suffix: string): History {
  const at = (s: string) => new Date(Date.parse(s) + by).toISOString()
  return {
    ...h,
    series: `${h.series}@${suffix}`,
    name: `${h.name}, ${suffix} before`,
    from: at(h.from),
    to: at(h.to),
    t: h.t.map((t) => t + by),
    gaps: h.gaps.map(([a, b]) => [a! + by, b! + by]),
  }
}

/** Words that a spreadsheet must not take for a formula. */
export const harmless = (s: string) => (/^[=+@\t\r-]/.test(s) && Number.isNaN(Number(s)) ? "'" + s : s)

/** What is shown, as CSV: a line for each time, a column for each series, or four where there are buckets. */
export function csv(histories: History[]): string {
  const cell = (v: unknown) => {
    if (v === undefined || v === null) return ''
    if (typeof v === 'boolean') return v ? 'on' : 'off'
    const s = typeof v === 'string' ? harmless(v) : String(v)
    return /[",\r\n]/.test(s) ? `"${s.replaceAll('"', '""')}"` : s
  }
  const heads: string[] = []
  const rows = new Map<number, string[]>()
  for (const h of histories) {
    const columns: [string, ArrayLike<unknown>][] = h.v
      ? [[h.series, h.v]]
      : h.kind === 'onoff'
        ? [[`${h.series} on ms`, h.on_ms ?? []]]
        : [
            [`${h.series} mean`, h.mean ?? []],
            [`${h.series} min`, h.min ?? []],
            [`${h.series} max`, h.max ?? []],
            [`${h.series} count`, h.count ?? []],
          ]
    for (const [name, list] of columns) {
      h.t.forEach((t, i) => {
        const row = rows.get(t) ?? []
        row[heads.length] = cell(list[i])
        rows.set(t, row)
      })
      heads.push(name)
    }
  }
  const lines = [...rows.entries()]
    .sort(([a], [b]) => a - b)
    .map(([t, row]) => [new Date(t).toISOString(), ...heads.map((_, i) => row[i] ?? '')].join(','))
  return [['t', ...heads.map(cell)].join(','), ...lines].join('\n') + '\n'
}
