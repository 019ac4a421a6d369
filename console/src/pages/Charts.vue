<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, sentence, type History, type Remark } from '../api'
import { csv, figures, moved, panes as makePanes, valueAt } from '../chart'
import ChartNotes from '../components/ChartNotes.vue'
import ChartPane from '../components/ChartPane.vue'
import Icon from '../components/Icon.vue'
import StripPane from '../components/StripPane.vue'
import { clockText, dayText, length, unitSign, valueText } from '../format'
import { onReading, useHub } from '../hub'
import { zonedInstant, zonedText } from '../zoned'

const hub = useHub()
const route = useRoute()
const router = useRouter()
const spans = [
  { text: 'Hour', ms: 3600_000 },
  { text: '6 h', ms: 6 * 3600_000 },
  { text: 'Day', ms: 24 * 3600_000 },
  { text: 'Week', ms: 7 * 24 * 3600_000 },
  { text: 'Month', ms: 30 * 24 * 3600_000 },
  { text: 'Year', ms: 365 * 24 * 3600_000 },
]
const earlier = [{ value: '', text: 'Compare with …', ms: 0 }, { value: 'a day', text: 'the day before', ms: 24 * 3600_000 }, { value: 'a week', text: 'the week before', ms: 7 * 24 * 3600_000 },
  { value: 'a month', text: '30 days before', ms: 30 * 24 * 3600_000 }, { value: 'a year', text: 'the year before', ms: 364 * 24 * 3600_000 }]
const looks = [{ colour: '--s1' }, { colour: '--s2', dash: [6, 4] }, { colour: '--s3' }, { colour: '--s4', dash: [2, 3] }]

// The address holds the view: the signals, and either a span that ends now or a stretch.
const chosen = computed(() => String(route.query.s ?? '').split(',').filter(Boolean))
const stretch = computed(() => {
  const f = Number(route.query.from)
  const t = Number(route.query.to)
  return f && t && t > f ? { from: f, to: t } : null
})
const span = computed(() => (stretch.value ? stretch.value.to - stretch.value.from : Number(route.query.span) || 24 * 3600_000))
const live = computed(() => !stretch.value)
const tick = ref(Date.now())
const to = computed(() => stretch.value?.to ?? tick.value + hub.offset)
const from = computed(() => to.value - span.value)

const histories = shallowRef<History[]>([])
const ghosts = shallowRef<History[]>([])
const notes = shallowRef<Remark[]>([])
const versus = computed(() => earlier.find((x) => x.value && x.value === route.query.vs))
const failed = ref('')
const loading = ref(false)
const cursor = ref<number | null>(null)
const panes = computed(() => makePanes([...histories.value, ...ghosts.value]))
const strips = computed(() => histories.value.filter((h) => h.kind !== 'number'))
const colours = computed(() => {
  const out: Record<string, { colour: string; dash?: number[]; ghost?: boolean }> = Object.fromEntries(histories.value.filter((h) => h.kind === 'number').map((h, i) => [h.series, looks[i % looks.length]!]))
  for (const g of ghosts.value) out[g.series] = { colour: out[g.series.split('@')[0]!]?.colour ?? '--s1', ghost: true }
  return out
})
const step = computed(() => Math.max(0, ...histories.value.map((h) => h.step_ms)))

const all = computed(() => [
  ...Object.values(hub.signals).map((s) => ({ id: s.id, text: label(s.place, s.name) })),
  ...Object.values(hub.controls).map((c) => ({ id: c.id + '.is', text: label(c.place, c.name) })),
  ...Object.values(hub.settings).map((g) => ({ id: g.config.id, text: label(g.place ?? '', g.config.name) + ' (setting)' })),
].sort((a, b) => a.text.localeCompare(b.text)))
const addable = computed(() => all.value.filter((x) => !chosen.value.includes(x.id)))
const typed = ref('')
// A name out of the list, an id, or what only one name holds.
function addTyped() {
  const word = typed.value.trim().toLowerCase()
  if (!word) return
  const exact = addable.value.find((x) => x.text.toLowerCase() === word || x.id === word)
  const found = exact ? [exact] : addable.value.filter((x) => x.text.toLowerCase().includes(word) || x.id.includes(word))
  if (found.length !== 1) return
  typed.value = ''
  add(found[0]!.id)
}
function label(place: string, name: string) {
  const p = hub.places.find((x) => x.id === place)?.name
  return p && hub.places.length > 1 ? `${p} ${name.toLowerCase()}` : name
}
const nameOf = (id: string) => all.value.find((x) => x.id === id)?.text ?? id

function go(query: Record<string, string | undefined>, replace = false) {
  const next = { ...route.query, ...query }
  for (const k of Object.keys(next)) if (next[k] === undefined || next[k] === '') delete next[k]
  void (replace ? router.replace({ query: next }) : router.push({ query: next }))
}
const add = (id: string) => id && go({ s: [...chosen.value, id].join(',') })
const drop = (id: string) => go({ s: chosen.value.filter((x) => x !== id).join(',') })
const setSpan = (ms: number) => go({ span: String(ms), from: undefined, to: undefined })
const now = () => go({ from: undefined, to: undefined, span: String(Math.round(span.value)) })
function show(f: number, t: number) {
  const least = 10_000
  if (t - f < least) [f, t] = [(f + t - least) / 2, (f + t + least) / 2]
  go({ from: String(Math.round(f)), to: String(Math.round(t)), span: undefined })
}
const shift = (n: number) => show(from.value + n * span.value, to.value + n * span.value)

// Notes are shown on all charts of their place.
const about = computed(() => {
  const out = new Set<string>()
  for (const id of chosen.value) {
    const device = id.split('.')[0]!
    const place = hub.devices[device]?.place ?? device
    out.add(device).add(place)
    for (const d of Object.values(hub.devices)) if (d.place === place) out.add(d.id)
  }
  return out
})
const places = computed(() => hub.places.filter((p) => about.value.has(p.id)))
const pause = () => go({ from: String(Math.round(from.value)), to: String(Math.round(to.value)), span: undefined })
const day = computed(() => zonedText(to.value - 1, hub.zone).slice(0, 10))
function jump(text: string) {
  const begin = zonedInstant(`${text}T00:00`, hub.zone)
  if (!Number.isNaN(begin)) show(begin, begin + 24 * 3600_000)
}
function save(name: string, href: string) {
  const a = document.createElement('a')
  a.href = href
  a.download = name
  a.click()
}
const fileName = (ending: string) => `${zonedText(from.value, hub.zone).replace(/[T:]/g, '-')}-${chosen.value.join('-').slice(0, 60)}.${ending}`
const saveCSV = () => save(fileName('csv'), URL.createObjectURL(new Blob([csv([...histories.value, ...ghosts.value])], { type: 'text/csv' })))
function savePNG() {
  const list = [...document.querySelectorAll<HTMLCanvasElement>('.charts canvas')]
  const out = document.createElement('canvas')
  const gap = 26 * devicePixelRatio
  out.width = Math.max(...list.map((c) => c.width))
  out.height = list.reduce((h, c) => h + c.height + gap, gap)
  const ctx = out.getContext('2d')!
  const css = getComputedStyle(document.documentElement)
  ctx.fillStyle = css.getPropertyValue('--sheet')
  ctx.fillRect(0, 0, out.width, out.height)
  ctx.fillStyle = css.getPropertyValue('--ink')
  ctx.font = `${13 * devicePixelRatio}px "Figtree Variable", sans-serif`
  ctx.fillText(title.value, 12 * devicePixelRatio, gap * 0.7)
  let y = gap
  list.forEach((c, i) => {
    const p = panes.value[i]
    ctx.fillText(p ? `${p.histories.map((h) => h.name).join(', ')} ${unitSign(p.unit)}` : '', 52 * devicePixelRatio, y + gap * 0.7)
    ctx.drawImage(c, 0, y + gap)
    y += c.height + gap
  })
  save(fileName('png'), out.toDataURL('image/png'))
}

let asked = 0
async function load() {
  if (!chosen.value.length) {
    histories.value = []
    return
  }
  const mine = ++asked
  loading.value = true
  try {
    const iso = (t: number) => new Date(t).toISOString()
    const points = Math.min(1500, Math.max(300, window.innerWidth))
    const past = (by: number) => ask(api.GET('/history', { params: { query: { series: chosen.value, from: iso(from.value - by), to: iso(to.value - by), points } } }))
    const by = versus.value
    const [got, before, said] = await Promise.all([past(0), by ? past(by.ms) : [], hub.member ? ask(api.GET('/notes', { params: { query: { from: iso(from.value), to: iso(to.value) } } })) : []])
    if (mine !== asked) return // something newer was asked for meanwhile
    histories.value = got
    ghosts.value = by ? before.filter((h) => h.kind === 'number').map((h) => moved(h, by.ms, by.value)) : []
    notes.value = said.filter((n) => about.value.has(n.object.split('.')[0]!))
    failed.value = ''
  } catch (e) {
    if (mine === asked) failed.value = sentence(e)
  }
  if (mine === asked) loading.value = false
}
watch(() => [route.query.s, route.query.from, route.query.to, route.query.span, route.query.vs], () => { tick.value = Date.now(); void load() })
watch(() => hub.link, (l) => l === 'live' && void load())
watch(() => Object.values(hub.controls).map((c) => `${c.is}${c.is_since}`).join(), () => live.value && void load())

// Live readings are appended where single readings are shown; buckets are loaded anew when one is full.
const stop = onReading((s) => {
  if (!live.value || !s.at || s.value === undefined) return
  const i = histories.value.findIndex((h) => h.series === s.id)
  const h = histories.value[i]
  const at = Date.parse(s.at)
  if (!h?.v || at <= (h.t.at(-1) ?? 0)) return
  const open = h.gaps.at(-1)
  const gaps = open && open[1]! >= Date.parse(h.to) - 1 && at - open[0]! < (h.hold_ms || Infinity) ? h.gaps.slice(0, -1) : h.gaps
  const next = [...histories.value]
  next[i] = { ...h, t: [...h.t, at], v: [...h.v, s.value], gaps }
  tick.value = Date.now()
  histories.value = next
})
let timer = 0
let loaded = Date.now()
onMounted(() => {
  document.addEventListener('keydown', keys)
  if (!chosen.value.length) {
    const first = Object.values(hub.signals).filter((s) => s.kind === 'number').sort((a, b) => (a.unit === 'Cel' ? -1 : b.unit === 'Cel' ? 1 : 0)).slice(0, 2)
    if (first.length) go({ s: first.map((s) => s.id).join(',') }, true)
  }
  void load()
  timer = window.setInterval(() => {
    if (!live.value) return
    tick.value = Date.now()
    if (Date.now() - loaded > Math.max(30_000, step.value)) {
      loaded = Date.now()
      void load()
    }
  }, Math.min(5000, Math.max(1000, span.value / 1000)))
})
onUnmounted(() => {
  stop()
  window.clearInterval(timer)
  document.removeEventListener('keydown', keys)
})

const title = computed(() => {
  const sameDay = clockText(from.value, hub.zone, { dateStyle: 'short' }) === clockText(to.value, hub.zone, { dateStyle: 'short' })
  return `${dayText(from.value, hub.zone)} – ${sameDay ? clockText(to.value, hub.zone) : dayText(to.value, hub.zone)}`
})
const grain = computed(() => (step.value ? `${length(step.value)} buckets, mean with min–max` : 'every reading'))
const text = (h: History, v: number | undefined) => (v === undefined || Number.isNaN(v) ? '' : valueText(v, h.decimals))
function keys(e: KeyboardEvent) {
  if ((e.target as HTMLElement).closest?.('input, select, textarea, [role=dialog]') || e.ctrlKey || e.metaKey || e.altKey) return
  if (e.key === 'ArrowLeft') shift(-0.5)
  else if (e.key === 'ArrowRight') shift(0.5)
  else if (e.key === '+') show(from.value + span.value / 4, to.value - span.value / 4)
  else if (e.key === '-') show(from.value - span.value / 2, to.value + span.value / 2)
  else if (e.key === 'Home') now()
}
</script>

<template>
  <main class="page">
    <h1 class="visually-hidden">Charts</h1>
    <div class="tools no-print">
      <div class="chips">
        <span v-for="id in chosen" :key="id" class="chip">
          <svg v-if="colours[id]" width="18" height="4" aria-hidden="true"><line x1="0" x2="18" y1="2" y2="2" stroke-width="2.4" :stroke="`var(${colours[id]!.colour})`" :stroke-dasharray="colours[id]!.dash?.join(' ')" /></svg>
          {{ nameOf(id) }}
          <button type="button" :aria-label="`Leave out ${nameOf(id)}`" @click="drop(id)"><Icon name="x" :size="11" /></button>
        </span>
        <form v-if="addable.length" class="add" @submit.prevent="addTyped">
          <input v-model="typed" class="form-control" list="series" placeholder="Add a signal" aria-label="Add a signal" autocomplete="off" @change="addTyped" />
          <datalist id="series"><option v-for="x in addable" :key="x.id" :value="x.text" /></datalist>
        </form>
      </div>
      <div class="btn-group" role="group" aria-label="Span">
        <button v-for="s in spans" :key="s.text" type="button" class="btn btn-outline-secondary" :class="{ active: Math.abs(span - s.ms) < 1000 }" :aria-pressed="Math.abs(span - s.ms) < 1000" @click="setSpan(s.ms)">{{ s.text }}</button>
      </div>
    </div>
    <div class="between mb-2">
      <div><h2 class="d-inline me-2">{{ title }}</h2><span class="soft small-text">{{ grain }}</span></div>
      <div class="d-flex gap-2 flex-wrap no-print">
        <button type="button" class="btn btn-outline-secondary" aria-label="Earlier" @click="shift(-1)"><Icon name="back" :size="15" /></button>
        <button type="button" class="btn btn-outline-secondary" aria-label="Later" :disabled="live" @click="shift(1)"><Icon name="forth" :size="15" /></button>
        <button v-if="live" type="button" class="btn btn-outline-secondary" @click="pause">Pause</button>
        <button v-else type="button" class="btn btn-outline-secondary" @click="now">Now</button>
        <input class="form-control date" type="date" aria-label="Jump to a day" :value="day" @change="jump(($event.target as HTMLInputElement).value)" />
        <select class="form-select compare" aria-label="Compare" :value="versus?.value ?? ''" @change="go({ vs: ($event.target as HTMLSelectElement).value || undefined })"><option v-for="x in earlier" :key="x.value" :value="x.value">{{ x.text }}</option></select>
      </div>
    </div>
    <div v-if="failed" class="note bad mb-3" role="alert">{{ failed }}</div>
    <section class="sheet charts" :aria-busy="loading">
      <p v-if="!chosen.length" class="soft m-3">Choose a signal above, or tap a value on Now.</p>
      <template v-for="(p, i) in panes" :key="p.unit">
        <div class="pane-title"><strong>{{ p.histories.filter((h) => !h.series.includes('@')).map((h) => h.name).join(', ') }}</strong><span v-if="versus" class="soft">, pale: {{ versus.text }}</span> <span class="soft">{{ unitSign(p.unit) }}</span></div>
        <ChartPane :pane="p" :from="from" :to="to" :zone="hub.zone" :colours="colours" :axis="i === panes.length - 1" :notes="notes" @zoom="show" @cursor="cursor = $event" />
      </template>
      <StripPane v-for="h in strips" :key="h.series" :history="h" :from="from" :to="to" :cursor="cursor" />
      <p v-if="chosen.length && !loading && histories.every((h) => !h.t.length)" class="soft m-3">No readings in this stretch. Try a longer one, or an earlier one.</p>
    </section>
    <section v-if="histories.length" class="sheet mt-3 figures">
      <table class="table">
        <thead><tr><th>{{ cursor ? `at ${dayText(cursor, hub.zone)}` : 'in this stretch' }}</th><th v-if="cursor" class="num">value</th><template v-if="panes.length"><th class="num">last</th><th class="num">min</th><th class="num">mean</th><th class="num">max</th></template><th v-if="strips.length" class="num">on</th></tr></thead>
        <tbody>
          <tr v-for="h in histories" :key="h.series">
            <td><svg v-if="colours[h.series]" class="me-2" width="18" height="4" aria-hidden="true"><line x1="0" x2="18" y1="2" y2="2" stroke-width="2.4" :stroke="`var(${colours[h.series]!.colour})`" :stroke-dasharray="colours[h.series]!.dash?.join(' ')" /></svg>{{ nameOf(h.series) }} <span class="soft">{{ unitSign(h.unit) }}</span></td>
            <td v-if="cursor" class="num"><strong>{{ valueText(valueAt(h, cursor), h.decimals) }}</strong></td>
            <template v-if="panes.length">
              <td class="num">{{ text(h, figures(h).last) }}</td><td class="num">{{ text(h, figures(h).min) }}</td>
              <td class="num">{{ text(h, figures(h).mean) }}</td><td class="num">{{ text(h, figures(h).max) }}</td>
            </template>
            <td v-if="strips.length" class="num">{{ figures(h).onMs === undefined ? '' : length(figures(h).onMs!) }}</td>
          </tr>
        </tbody>
      </table>
    </section>
    <ChartNotes v-if="hub.member && chosen.length" class="mt-3" :notes="notes" :places="places" :at="to" @changed="load" />
    <div v-if="histories.length" class="d-flex gap-2 mt-2 no-print"><button type="button" class="btn btn-outline-secondary btn-sm" @click="saveCSV">Save as CSV</button><button type="button" class="btn btn-outline-secondary btn-sm" :disabled="!panes.length" @click="savePNG">Save as a picture</button></div>
    <p class="soft small-text mt-2 no-print">Drag across to zoom, or pinch. Arrow keys move, + and − zoom, Home returns to now.</p>
  </main>
</template>

<style scoped>
.tools { display: flex; justify-content: space-between; gap: 12px; flex-wrap: wrap; margin-bottom: 12px; align-items: start; }
.chips { display: flex; flex-wrap: wrap; gap: 8px; align-items: center; flex: 1 1 300px; }
.chip { display: inline-flex; gap: 8px; align-items: center; border: 1px solid var(--line); background: var(--sheet); border-radius: 10px; padding: 0 4px 0 12px; min-height: 38px; }
.chip button { border: 0; background: none; color: var(--soft); min-width: 32px; min-height: 36px; }
.add input { min-height: 38px; border-style: dashed; max-width: 190px; }
.date, .compare { width: auto; }
.btn-group .btn.active { background: var(--ink); color: var(--sheet); border-color: var(--ink); }
.charts { padding: 14px 4px 10px 6px; min-height: 240px; }
.pane-title { padding-left: 50px; margin-bottom: 2px; }
.pane-title ~ .pane-title { margin-top: 10px; }
.figures { overflow-x: auto; padding: 6px 8px; }
@media (max-width: 520px) { .figures .table > :not(caption) > * > * { padding: 8px 4px; font-size: 0.82rem; } .figures td svg { display: block; } }
</style>
