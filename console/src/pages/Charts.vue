<script setup lang="ts">
import { saveFile } from '../download'
import { useEventListener, useIntervalFn } from '@vueuse/core'
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { csv, figures, valueAt } from '../chart'
import ChartNotes from '../components/ChartNotes.vue'
import ChartTable from '../components/ChartTable.vue'
import ChartSheet from '../components/ChartSheet.vue'
import Icon from '../components/Icon.vue'
import ViewsMenu from '../components/ViewsMenu.vue'
import { clockText, dayText, length, unitSign, valueText } from '../format'
import type { History } from '../api'
import { useHistories } from '../histories'
import { useHub } from '../hub'
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
const earlier = [
  { value: '', text: 'Compare with …', ms: 0 },
  { value: 'a day', text: 'the day before', ms: 24 * 3600_000 },
  { value: 'a week', text: 'the week before', ms: 7 * 24 * 3600_000 },
  { value: 'a month', text: '30 days before', ms: 30 * 24 * 3600_000 },
  { value: 'a year', text: 'the year before', ms: 364 * 24 * 3600_000 },
]

// The address holds the view: the signals, and either a span that ends now or a stretch.
const chosen = computed(() =>
  String(route.query.s ?? '')
    .split(',')
    .filter(Boolean),
)
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
const versus = computed(() => earlier.find((x) => x.value && x.value === route.query.vs))
const marked = computed(() => route.query.marks !== '0')

const sheet = ref<InstanceType<typeof ChartSheet>>()
const {
  histories,
  ghosts,
  notes: said,
  marks,
  setpoints,
  failed,
  loading,
  known,
  load,
} = useHistories(
  () => ({
    series: chosen.value,
    from: from.value,
    to: to.value,
    live: live.value,
    marks: marked.value,
    before: versus.value && { ms: versus.value.ms, text: versus.value.value },
  }),
  () => [route.query.s, route.query.from, route.query.to, route.query.span, route.query.vs, route.query.marks].join('|'),
)
const notes = computed(() => said.value.filter((n) => about.value.has(n.object.split('.')[0]!)))
const cursor = ref<number | null>(null)
const picked = ref<number | null>(null) // by a click on the chart
const panes = computed(() => sheet.value?.panes ?? [])
const strips = computed(() => histories.value.filter((h) => h.kind !== 'number'))
const colours = computed(() => sheet.value?.colours ?? {})
const step = computed(() => Math.max(0, ...histories.value.map((h) => h.step_ms)))
const folded = ref(true) // the rarer tools on a phone

// Two numbers of one unit can be taken from each other.
const pairs = computed(() => {
  const of = histories.value.filter((h) => h.kind === 'number' && !h.series.includes('~'))
  return of
    .flatMap((a, i) =>
      of
        .slice(i + 1)
        .filter((b) => b.unit === a.unit)
        .map((b) => ({ id: `${a.series}~${b.series}`, text: `${nameOf(a.series)} − ${nameOf(b.series)}` })),
    )
    .filter((p) => !chosen.value.includes(p.id))
})

const all = computed(() =>
  [
    ...Object.values(hub.signals).map((s) => ({ id: s.config.id, text: label(s.state.place, s.config.name) })),
    ...Object.values(hub.controls).map((c) => ({ id: c.config.id + '.is', text: label(c.state.place, c.config.name) })),
    ...Object.values(hub.settings).map((g) => ({ id: g.config.id, text: label(g.state.place ?? '', g.config.name) + ' (setting)' })),
    ...Object.values(hub.devices).map((d) => ({ id: d.config.id, text: d.config.name + ' (online)' })),
  ].sort((a, b) => a.text.localeCompare(b.text)),
)
const beginnings = computed(() =>
  [
    ...new Set([
      ...(hub.preferences.favourites ?? []),
      ...Object.values(hub.signals)
        .filter((x) => x.config.kind === 'number')
        .map((x) => x.config.id),
    ]),
  ]
    .flatMap((id) => all.value.find((x) => x.id === id) ?? [])
    .slice(0, 6),
)
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
const nameOf = (id: string): string =>
  id.includes('~') ? id.split('~').map(nameOf).join(' − ') : (all.value.find((x) => x.id === id)?.text ?? id)

function go(query: Record<string, string | undefined>, replace = false) {
  const next = { ...route.query, ...query }
  for (const k of Object.keys(next)) if (next[k] === undefined || next[k] === '') delete next[k]
  void (replace ? router.replace({ query: next }) : router.push({ query: next }))
}
const add = (id: string) => id && go({ s: [...chosen.value, id].join(',') })
const drop = (id: string) => go({ s: chosen.value.filter((x) => x !== id).join(',') })
const setSpan = (ms: number) => go({ span: String(ms), from: undefined, to: undefined })
const now = () => go({ from: undefined, to: undefined, span: String(Math.round(span.value)) })
// A turning wheel is one step back, not a hundred.
let turned = 0
function show(f: number, t: number, rests = true) {
  const least = 10_000
  if (t - f < least) [f, t] = [(f + t - least) / 2, (f + t + least) / 2]
  go({ from: String(Math.round(f)), to: String(Math.round(t)), span: undefined }, !rests && Date.now() - turned < 1500)
  turned = rests ? 0 : Date.now()
}
const back = computed(() => (route.fullPath, String(window.history.state?.back ?? '').startsWith('/charts')))
const openView = (view: string) => void router.push('/charts?' + view)
const view = computed(() => route.fullPath.split('?')[1] ?? '')
const shift = (n: number) => show(from.value + n * span.value, to.value + n * span.value)

// Notes are shown on all charts of their place.
const about = computed(() => {
  const out = new Set<string>()
  for (const id of chosen.value) {
    const device = id.split('.')[0]!
    const place = hub.devices[device]?.config.place ?? device
    out.add(device).add(place)
    for (const d of Object.values(hub.devices)) if (d.config.place === place) out.add(d.config.id)
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
const fileName = (ending: string) =>
  `${zonedText(from.value, hub.zone).replace(/[T:]/g, '-')}-${chosen.value.join('-').slice(0, 60)}.${ending}`
const saveCSV = () => saveFile(fileName('csv'), new Blob([csv([...histories.value, ...ghosts.value])], { type: 'text/csv' }))
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
  out.toBlob((b) => {
    if (b) saveFile(fileName('png'), b)
  })
}

onMounted(() => {
  if (!chosen.value.length) {
    const first = Object.values(hub.signals)
      .filter((s) => s.config.kind === 'number')
      .sort((a, b) => (a.config.unit === 'Cel' ? -1 : b.config.unit === 'Cel' ? 1 : 0))
      .slice(0, 2)
    if (first.length) go({ s: first.map((s) => s.config.id).join(',') }, true)
  }
})
useEventListener(document, 'keydown', keys)
useIntervalFn(
  () => {
    if (live.value) tick.value = Date.now()
  },
  () => Math.min(5000, Math.max(1000, span.value / 1000)),
)

const title = computed(() => {
  const sameDay = clockText(from.value, hub.zone, { dateStyle: 'short' }) === clockText(to.value, hub.zone, { dateStyle: 'short' })
  return `${dayText(from.value, hub.zone)} – ${sameDay ? clockText(to.value, hub.zone) : dayText(to.value, hub.zone)}`
})
const grain = computed(() =>
  !histories.value.length ? '' : step.value ? `${length(step.value)} buckets, mean with min–max` : 'every reading',
)
const text = (h: History, v: number | undefined) => (v === undefined || Number.isNaN(v) ? '' : valueText(v, h.decimals))
function keys(e: KeyboardEvent) {
  if ((e.target as HTMLElement).closest?.('input, select, textarea, [role=dialog]') || e.ctrlKey || e.metaKey || e.altKey) return
  if (e.key === 'ArrowLeft') shift(-0.5)
  else if (e.key === 'ArrowRight') shift(0.5)
  else if (e.key === '+') show(from.value + span.value / 4, to.value - span.value / 4)
  else if (e.key === '-') show(from.value - span.value / 2, to.value + span.value / 2)
  else if (e.key === 'Home') now()
  else if (e.key === 'Backspace' && back.value) router.back()
}
function pick(at: number) {
  picked.value = Math.round(at)
}
</script>

<template>
  <main class="page">
    <h1 class="visually-hidden">Charts</h1>
    <div class="tools no-print">
      <div class="chips">
        <span v-for="id in chosen" :key="id" class="chip">
          <svg v-if="colours[id]" width="18" height="4" aria-hidden="true">
            <line
              x1="0"
              x2="18"
              y1="2"
              y2="2"
              stroke-width="2.4"
              :stroke="`var(${colours[id]!.colour})`"
              :stroke-dasharray="colours[id]!.dash?.join(' ')" />
          </svg>
          {{ nameOf(id) }}
          <button type="button" :aria-label="`Leave out ${nameOf(id)}`" @click="drop(id)"><Icon name="x" :size="11" /></button>
        </span>
        <form v-if="addable.length" class="add" @submit.prevent="addTyped">
          <input
            v-model="typed"
            class="form-control"
            list="series"
            placeholder="Add a signal"
            aria-label="Add a signal"
            autocomplete="off"
            @change="addTyped" />
          <datalist id="series"><option v-for="x in addable" :key="x.id" :value="x.text" /></datalist>
        </form>
        <select
          v-if="pairs.length"
          class="form-select add"
          aria-label="Add a difference"
          @change="add(($event.target as HTMLSelectElement).value)">
          <option value="">Difference …</option>
          <option v-for="x in pairs" :key="x.id" :value="x.id">{{ x.text }}</option>
        </select>
      </div>
      <div class="btn-group spans" role="group" aria-label="Span">
        <button
          v-for="s in spans"
          :key="s.text"
          type="button"
          class="btn btn-outline-secondary"
          :class="{ active: Math.abs(span - s.ms) < 1000 }"
          :aria-pressed="Math.abs(span - s.ms) < 1000"
          @click="setSpan(s.ms)">
          {{ s.text }}
        </button>
      </div>
    </div>
    <div class="between mb-2">
      <div>
        <h2 class="d-inline me-2">{{ title }}</h2>
        <span class="soft small-text">{{ grain }}</span>
      </div>
      <div class="d-flex gap-2 flex-wrap no-print">
        <button v-if="back" type="button" class="btn btn-outline-secondary" @click="router.back()">Back</button>
        <button type="button" class="btn btn-outline-secondary" aria-label="Earlier" @click="shift(-1)">
          <Icon name="back" :size="15" />
        </button>
        <button type="button" class="btn btn-outline-secondary" aria-label="Later" :disabled="live" @click="shift(1)">
          <Icon name="forth" :size="15" />
        </button>
        <button v-if="live" type="button" class="btn btn-outline-secondary" @click="pause">Pause</button>
        <button v-else type="button" class="btn btn-outline-secondary" @click="now">Now</button>
        <button
          type="button"
          class="btn btn-outline-secondary unfold"
          :aria-expanded="!folded"
          aria-label="More tools"
          @click="folded = !folded">
          <Icon name="more" :size="15" />
        </button>
        <div class="rarer" :class="{ folded }">
          <input
            class="form-control date"
            type="date"
            aria-label="Jump to a day"
            :value="day"
            @change="jump(($event.target as HTMLInputElement).value)" />
          <select
            class="form-select compare"
            aria-label="Compare"
            :value="versus?.value ?? ''"
            @change="go({ vs: ($event.target as HTMLSelectElement).value || undefined })">
            <option v-for="x in earlier" :key="x.value" :value="x.value">{{ x.text }}</option>
          </select>
          <ViewsMenu v-if="hub.member" :view="view" @open="openView" />
        </div>
      </div>
    </div>
    <div v-if="failed" class="note bad mb-3" role="alert">{{ failed }}</div>
    <section class="sheet charts" :aria-busy="loading">
      <div v-if="!chosen.length" class="soft m-3">
        <p>
          {{
            all.length
              ? 'Choose a signal above, or tap a value on Now. Or begin with one of these:'
              : !hub.loaded
                ? 'Asking the hub …'
                : 'What boards measure is drawn here, as far back as it goes. There is nothing yet.'
          }}
        </p>
        <div class="d-flex flex-wrap gap-2">
          <button v-for="x in beginnings" :key="x.id" type="button" class="btn btn-outline-secondary btn-sm" @click="add(x.id)">
            {{ x.text }}
          </button>
          <RouterLink v-if="hub.loaded && !all.length && hub.owner" class="btn btn-primary" :to="{ name: 'add-device' }"
            >Add a device</RouterLink
          >
        </div>
      </div>
      <ChartSheet
        ref="sheet"
        :histories="histories"
        :ghosts="ghosts"
        :setpoints="setpoints"
        :marks="marks"
        :notes="notes"
        :from="from"
        :to="to"
        :cursor="cursor"
        :before="versus?.text"
        @zoom="show"
        @cursor="cursor = $event"
        @pick="pick"
        @out="show(from - span / 2, to + span / 2)" />
      <p v-if="chosen.length && loading && !failed && !histories.length" class="soft m-3">Drawing …</p>
      <p v-else-if="chosen.length && !loading && !failed && histories.every((h) => !h.t.length)" class="soft m-3">
        No readings in this stretch. Try a longer one, or an earlier one.
      </p>
    </section>
    <div v-if="picked && hub.member" class="picked no-print" role="status">
      <span>{{
        clockText(picked, hub.zone, {
          weekday: 'short',
          day: '2-digit',
          month: 'short',
          hour: '2-digit',
          minute: '2-digit',
          second: '2-digit',
        })
      }}</span><a class="btn btn-outline-secondary btn-sm" href="#notes">Put a note here</a
      ><button type="button" class="gone" aria-label="Let the time go" @click="picked = null"><Icon name="x" :size="11" /></button>
    </div>
    <section v-if="histories.length" class="sheet mt-3 figures">
      <table class="table">
        <thead>
          <tr>
            <th>{{ cursor ? `at ${dayText(cursor, hub.zone)}` : 'in this stretch' }}</th>
            <th v-if="cursor" class="num">value</th>
            <template v-if="panes.length"
              ><th class="num">last</th>
              <th class="num">min</th>
              <th class="num">mean</th>
              <th class="num">max</th></template
            >
            <th v-if="strips.length" class="num">on</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="h in histories" :key="h.series">
            <td>
              <svg v-if="colours[h.series]" class="me-2" width="18" height="4" aria-hidden="true">
                <line
                  x1="0"
                  x2="18"
                  y1="2"
                  y2="2"
                  stroke-width="2.4"
                  :stroke="`var(${colours[h.series]!.colour})`"
                  :stroke-dasharray="colours[h.series]!.dash?.join(' ')" /></svg
              ><RouterLink v-if="!h.series.includes('~')" :to="{ name: 'signal', params: { id: h.series } }">{{
                nameOf(h.series)
              }}</RouterLink
              ><template v-else>{{ nameOf(h.series) }}</template> <span class="soft">{{ unitSign(h.unit) }}</span>
            </td>
            <td v-if="cursor" class="num">
              <strong>{{ valueText(valueAt(h, cursor), h.decimals) }}</strong>
            </td>
            <template v-if="panes.length">
              <td class="num">{{ text(h, figures(h).last) }}</td>
              <td class="num">{{ text(h, figures(h).min) }}</td>
              <td class="num">{{ text(h, figures(h).mean) }}</td>
              <td class="num">{{ text(h, figures(h).max) }}</td>
            </template>
            <td v-if="strips.length" class="num">{{ figures(h).onMs === undefined ? '' : length(figures(h).onMs!) }}</td>
          </tr>
        </tbody>
      </table>
      <ChartTable :histories="histories" :from="from" :to="to" />
    </section>
    <ChartNotes
      v-if="hub.member && chosen.length"
      id="notes"
      class="mt-3"
      :notes="notes"
      :known="known"
      :places="places"
      :at="picked ?? to"
      :picked="picked"
      @changed="((picked = null), load())" />
    <div v-if="histories.length" class="d-flex gap-2 mt-2 no-print">
      <button type="button" class="btn btn-outline-secondary btn-sm" @click="saveCSV">Save as CSV</button
      ><button type="button" class="btn btn-outline-secondary btn-sm" :disabled="!panes.length" @click="savePNG">Save as a picture</button
      ><label class="small-text d-flex gap-2 align-items-center ms-2"
        ><input class="form-check-input mt-0" type="checkbox" :checked="marked" @change="go({ marks: marked ? '0' : undefined })" />
        setpoints and limits</label
      >
    </div>
    <p class="soft small-text mt-2 no-print">
      Drag across to zoom, or pinch; two clicks zoom out; a click picks a time for a note. Arrow keys move, + and − zoom, Home returns to
      now.
    </p>
  </main>
</template>

<style scoped>
.tools {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  flex-wrap: wrap;
  margin-bottom: 12px;
  align-items: start;
}
.chips {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  flex: 1 1 300px;
}
.chip {
  display: inline-flex;
  gap: 8px;
  align-items: center;
  border: 1px solid var(--line);
  background: var(--sheet);
  border-radius: 10px;
  padding: 0 4px 0 12px;
  min-height: 38px;
}
.chip button {
  border: 0;
  background: none;
  color: var(--soft);
  min-width: 32px;
  min-height: 36px;
}
.add input {
  min-height: 38px;
  border-style: dashed;
  max-width: 190px;
}
.date,
.compare {
  width: auto;
}
.btn-group .btn.active {
  background: var(--ink);
  color: var(--sheet);
  border-color: var(--ink);
}
.rarer {
  display: flex;
  gap: 8px;
  flex-wrap: wrap;
}
.unfold {
  display: none;
}
.picked {
  display: flex;
  gap: 12px;
  align-items: center;
  justify-content: flex-end;
  padding: 8px 4px 0;
}
.gone {
  border: 0;
  background: none;
  color: var(--soft);
  min-width: 36px;
  min-height: 36px;
}
.charts {
  padding: 14px 4px 10px 6px;
  min-height: 240px;
}
.figures {
  overflow-x: auto;
  padding: 6px 8px;
}
@media (max-width: 520px) {
  .unfold {
    display: inline-block;
  }
  .rarer {
    width: 100%;
  }
  .rarer.folded {
    display: none;
  }
  .spans {
    width: 100%;
  }
  .spans .btn {
    padding-inline: 2px;
  }
  .add {
    flex: 1 1 120px;
  }
  .add input,
  select.add {
    max-width: none;
    width: 100%;
  }
  .figures .table > :not(caption) > * > * {
    padding: 8px 4px;
    font-size: 0.82rem;
  }
  .figures td svg {
    display: block;
  }
}
</style>
