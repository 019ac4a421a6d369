// The last 24 hours of everything on a page: one request, then kept up by live readings.
import { useIntervalFn } from '@vueuse/core'
import { onMounted, onUnmounted, reactive, ref, watch } from 'vue'
import { api, ask, type History } from './api'
import { onReading, useHub } from './hub'

export type Trace = { t: number[]; v: number[]; hold: number }
export type Runs = [from: number, to: number][]

const day = 24 * 3600_000
const points = 240
const pace = 20_000

/** Turns a history of an on/off series into the stretches in which it was on. */
export function runsOf(h: History, to: number): Runs {
  const runs: Runs = []
  if (h.v) {
    h.t.forEach((t, i) => {
      if (h.v![i] !== true) return
      const end = h.t[i + 1] ?? to
      const last = runs.at(-1)
      if (last && last[1] >= t) last[1] = end
      else runs.push([t, end])
    })
    return without(runs, h.gaps)
  }
  h.t.forEach((t, i) => {
    const on = h.on_ms?.[i] ?? 0
    if (on > 0) runs.push([t, t + on])
  })
  return runs
}

/** Leaves out when nobody knows. */
function without(runs: Runs, gaps: number[][]): Runs {
  for (const [from, to] of gaps as Runs)
    runs = runs.flatMap(([a, b]) =>
      (b <= from || a >= to
        ? [[a, b]]
        : [
            [a, Math.min(b, from)],
            [Math.max(a, to), b],
          ]
      ).filter(([x, y]) => y! > x!),
    ) as Runs
  return runs
}

export function traceOf(h: History, span = day): Trace {
  const v = (h.mean ?? h.v ?? []).map((x) => Number(x))
  return { t: [...h.t], v, hold: Math.max(h.hold_ms || day, 2 * h.step_ms, 1.5 * (span / points)) }
}

/** A day, or as much of the past as shows what was a while before something began. */
export function reach(ms: number): number {
  return [1, 7, 31, 366].map((n) => n * day).find((span) => span >= 1.25 * ms) ?? 366 * day
}

/** Of everything, or of the series that only names; of a longer past where spanOf says so. */
export function useDay(only?: () => string[], spanOf: (id: string) => number = () => day) {
  const hub = useHub()
  const traces = reactive<Record<string, Trace>>({})
  const runs = reactive<Record<string, Runs>>({})
  const to = ref(hub.now)

  async function load() {
    const series = only?.() ?? [
      ...Object.values(hub.signals)
        .filter((s) => s.config.kind !== 'text')
        .map((s) => s.config.id),
      ...Object.keys(hub.controls).map((id) => id + '.is'),
    ]
    to.value = Date.now() + hub.offset
    for (const span of new Set(series.map(spanOf))) {
      const ids = series.filter((id) => spanOf(id) === span)
      for (let i = 0; i < ids.length; i += 40) {
        const got = await ask(
          api.GET('/history', {
            params: {
              query: {
                series: ids.slice(i, i + 40),
                from: new Date(to.value - span).toISOString(),
                to: new Date(to.value).toISOString(),
                points,
              },
            },
          }),
        )
        for (const h of got) {
          if (h.kind === 'onoff') runs[h.series] = runsOf(h, to.value)
          else traces[h.series] = traceOf(h, span)
        }
      }
    }
  }
  const refresh = () => void load().catch(() => undefined) // the page says by itself that the connection is lost

  // Live readings move the end of a line. Of a day some seconds are less than a dot, so they are taken together.
  const newest = new Map<string, [at: number, v: number]>()
  let soon = 0
  function extend() {
    soon = 0
    for (const [id, [at, v]] of newest) {
      const t = traces[id]!
      if (at - (t.t.at(-2) ?? 0) < spanOf(id) / points && t.t.length > 1) {
        t.t[t.t.length - 1] = at
        t.v[t.v.length - 1] = v
      } else {
        t.t.push(at)
        t.v.push(v)
      }
      to.value = Math.max(to.value, at)
    }
    newest.clear()
  }
  const stop = onReading((s) => {
    const at = s.state.at ? Date.parse(s.state.at) : 0
    if (traces[s.config.id] && typeof s.state.value === 'number' && at > (traces[s.config.id]!.t.at(-1) ?? 0)) {
      newest.set(s.config.id, [at, s.state.value])
      soon ||= window.setTimeout(extend, pace)
    }
  })
  if (only)
    watch(
      () => only().join(),
      () => hub.link === 'live' && refresh(),
    )
  else
    watch(
      () => [Object.keys(hub.signals).length, Object.keys(hub.controls).length, hub.link].join(),
      () => hub.link === 'live' && refresh(),
    )
  watch(
    () =>
      Object.values(hub.controls)
        .map((c) => `${c.config.id}${c.state.is}${c.state.is_since}`)
        .join(),
    refresh,
  )
  if (only)
    watch(
      () => hub.link,
      (l) => l === 'live' && refresh(),
    )
  onMounted(refresh)
  useIntervalFn(refresh, 5 * 60_000)
  onUnmounted(() => {
    stop()
    window.clearTimeout(soon)
  })
  return { traces, runs, to, span: day }
}
