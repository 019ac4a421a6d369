// What charts show: histories of a stretch, kept up by live readings, with what belongs to them.
import { useIntervalFn } from '@vueuse/core'
import { computed, onUnmounted, ref, shallowRef, watch } from 'vue'
import { api, ask, sentence, type History, type Mark, type Remark, type Signal } from './api'
import { appended, difference, moved, parts } from './chart'
import { onReading, useHub, useOnly } from './hub'
import { shownHistory, shownMark, shownNumber } from './units'

export type Stretch = {
  series: string[] // ids, and a~b for a difference
  from: number
  to: number
  live: boolean // the stretch ends now
  before?: { ms: number; text: string } // an earlier stretch to lay under it
  marks?: boolean // setpoints and limits
  points?: number
}

const toldFor = 60_000 // longer than an answer takes, and than a board's clock may be ahead
const triedAgainAfter = 10_000

/** Loads what a stretch needs whenever it changes. key says when to ask anew: a live stretch moves on by itself. */
export function useHistories(stretch: () => Stretch, key: () => unknown) {
  const hub = useHub()
  const got = shallowRef<History[]>([])
  const ghosts = shallowRef<History[]>([])
  const notes = shallowRef<Remark[]>([])
  const marks = shallowRef<Mark[]>([])
  const setpoints = shallowRef<History[]>([])
  const failed = ref('')
  const loading = ref(false)
  const answered = ref(0)
  useOnly(() => parts(stretch().series))
  let asked = 0
  let told: { signal: Signal; came: number }[] = [] // live readings that the next answer may not hold yet

  const iso = (t: number) => new Date(t).toISOString()
  const past = (series: string[], s: Stretch, by: number) =>
    series.length
      ? ask(
          api.GET('/history', {
            params: {
              query: {
                series,
                from: iso(s.from - by),
                to: iso(s.to - by),
                points: s.points ?? Math.min(1500, Math.max(300, window.innerWidth)),
              },
            },
          }),
        ).then((l) => l.map(shownHistory))
      : Promise.resolve([])

  async function load() {
    const s = stretch()
    const mine = ++asked
    if (!s.series.length) {
      got.value = []
      loading.value = false
      return
    }
    loading.value = true
    const began = Date.now()
    try {
      const ids = parts(s.series)
      const [own, earlier, said, lines] = await Promise.all([
        past(ids, s, 0),
        s.before ? past(ids, s, s.before.ms) : [],
        hub.member ? ask(api.GET('/notes', { params: { query: { from: iso(s.from), to: iso(s.to) } } })) : [],
        s.marks ? ask(api.GET('/history/marks', { params: { query: { series: ids } } })) : [],
      ])
      const settings = [...new Set(lines.flatMap((m) => (m.setting && !ids.includes(m.setting) ? [m.setting] : [])))]
      const steps = await past(settings, s, 0)
      if (mine !== asked) return // something newer was asked for meanwhile
      told = told.filter((x) => x.came >= began || Date.parse(x.signal.state.at!) > s.to)
      got.value = told.reduce((list, x) => withReading(list, x.signal), own)
      ghosts.value = s.before ? earlier.filter((h) => h.kind === 'number').map((h) => moved(h, s.before!.ms, s.before!.text)) : []
      notes.value = said
      marks.value = lines.map((m) => shownMark(m, hub.signals[m.series]?.config.unit ?? ''))
      setpoints.value = steps.filter((h) => h.kind === 'number').map((h) => ({ ...h, series: h.series + '#' }))
      failed.value = ''
    } catch (e) {
      if (mine === asked) failed.value = sentence(e)
    }
    if (mine !== asked) return
    loading.value = false
    answered.value = Date.now()
  }
  // While somebody turns the wheel the last data are stretched, and finer ones asked for when it rests.
  let soon = 0
  function anew() {
    failed.value = '' // that was of another stretch
    void load()
  }
  watch(key, () => {
    window.clearTimeout(soon)
    if (Date.now() - answered.value > 400 && !loading.value) anew()
    else soon = window.setTimeout(anew, 120)
  })
  watch(
    () => hub.link,
    (l) => l === 'live' && void load(),
  )
  // What is shown of controls, settings and devices changes in steps: such a step is asked for at once.
  watch(
    () =>
      [...parts(stretch().series), ...setpoints.value.map((h) => h.series.slice(0, -1))]
        .map((id) => {
          const c = hub.controls[id.slice(0, id.lastIndexOf('.'))]
          return c
            ? `${c.state.is} ${c.state.is_since} ${c.state.want} ${c.state.mode}`
            : `${hub.settings[id]?.state.rev} ${hub.devices[id]?.state.online}`
        })
        .join('|'),
    () => stretch().live && void load(),
  )

  // Live readings are appended where single readings are shown; buckets are loaded anew when one is full.
  function withReading(list: History[], s: Signal): History[] {
    return list.map((h) =>
      h.series === s.config.id
        ? appended(
            h,
            Date.parse(s.state.at!),
            typeof s.state.value === 'number' ? shownNumber(s.state.value, s.config.unit) : s.state.value!,
            s.state.quality === 'bad',
          )
        : h,
    )
  }
  const stop = onReading((s) => {
    if (!stretch().live || !s.state.at || s.state.value === undefined || !parts(stretch().series).includes(s.config.id)) return
    while (told[0] && told[0].came < Date.now() - toldFor) told.shift() // charts of years are loaded rarely
    told.push({ signal: { ...s }, came: Date.now() })
    got.value = withReading(got.value, s)
  })
  useIntervalFn(() => {
    const step = Math.max(0, ...got.value.map((h) => h.step_ms))
    const due = failed.value ? triedAgainAfter : stretch().live ? Math.max(30_000, step) : Infinity
    if (!loading.value && Date.now() - answered.value > due) void load()
  }, 1000)
  onUnmounted(() => {
    stop()
    window.clearTimeout(soon)
  })
  void load()

  // In the order in which they were chosen; a difference where both of its sides are there.
  const histories = computed(() =>
    stretch().series.flatMap((id) => {
      const [a, b] = id.split('~').map((x) => got.value.find((h) => h.series === x))
      return a && b ? [difference(a, b)] : a && !id.includes('~') ? [a] : []
    }),
  )
  const known = computed(() => !!answered.value && !failed.value)
  return { histories, ghosts, notes, marks, setpoints, failed, loading, known, load }
}
