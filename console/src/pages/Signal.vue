<script setup lang="ts">
// One series: what it is now, was over a day, week, month and year, over which values it spread, where it is missing, what it
// takes, and all its readings.
import { useIntervalFn } from '@vueuse/core'
import { computed, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, sentence, type Summary } from '../api'
import ChartSheet from '../components/ChartSheet.vue'
import Distribution from '../components/Distribution.vue'
import KeepForm from '../components/KeepForm.vue'
import Star from '../components/Star.vue'
import ReadingsTable from '../components/ReadingsTable.vue'
import { amountText, clockText, dayText, length, signalAge, since, valueText } from '../format'
import { useHistories } from '../histories'
import { useHub } from '../hub'
import { shownSummary, shownUnit, shownValue } from '../units'

const hub = useHub()
const route = useRoute()
const router = useRouter()
const id = String(route.params.id)
const spans = [
  { text: 'Day', ms: 86_400_000 },
  { text: 'Week', ms: 7 * 86_400_000 },
  { text: 'Month', ms: 30 * 86_400_000 },
  { text: 'Year', ms: 365 * 86_400_000 },
]
const span = computed(() => Number(route.query.span) || spans[0]!.ms)
const signal = computed(() => hub.signals[id])
const control = computed(() => hub.controls[id.replace(/\.(is|want|mode)$/, '')])
const setting = computed(() => hub.settings[id])
const device = computed(() => hub.devices[signal.value?.config.device ?? control.value?.config.device ?? ''])
const place = computed(() =>
  hub.places.find((p) => p.id === (signal.value?.state.place ?? control.value?.state.place ?? setting.value?.state.place)),
)

const tick = ref(Date.now())
const to = computed(() => tick.value + hub.offset)
const { histories, notes, marks, setpoints, failed, load } = useHistories(
  () => ({ series: [id], from: to.value - span.value, to: to.value, live: true, marks: true }),
  () => span.value,
)
const near = computed(() => notes.value.filter((n) => [device.value?.config.id, place.value?.id].includes(n.object.split('.')[0])))
const cursor = ref<number | null>(null)

const summaries = shallowRef<(Summary | null)[]>(spans.map(() => null))
const trouble = ref('')
async function sums() {
  const end = Date.now() + hub.offset
  try {
    summaries.value = await Promise.all(
      spans.map((s) =>
        ask(
          api.GET('/history/summary', {
            params: { query: { series: id, from: new Date(end - s.ms).toISOString(), to: new Date(end).toISOString() } },
          }),
        ).then(shownSummary),
      ),
    )
    trouble.value = ''
  } catch (e) {
    trouble.value = sentence(e)
  }
}
void sums()
useIntervalFn(() => (tick.value = Date.now()), 5000)
useIntervalFn(() => document.visibilityState === 'visible' && void sums(), 60_000)
watch(
  () => hub.link,
  (l) => l === 'live' && void sums(),
)
const changed = () => {
  void sums()
  void load()
}

const shown = computed(() => summaries.value[spans.findIndex((s) => s.ms === span.value)] ?? summaries.value.find((s) => s) ?? null)
const name = computed(() => signal.value?.config.name ?? setting.value?.config.name ?? shown.value?.name ?? id)
const kind = computed(() => shown.value?.kind ?? signal.value?.config.kind)
const unit = computed(() => signal.value?.config.unit ?? shown.value?.unit ?? '')
const decimals = computed(() => signal.value?.config.decimals ?? shown.value?.decimals ?? 0)
const places = computed(() => shown.value?.decimals ?? decimals.value)
const present = computed(() => {
  if (signal.value) return shownValue(signal.value.state.value, unit.value, decimals.value)
  if (control.value && id.endsWith('.is')) return amountText(control.value, control.value.state.is)
  if (control.value && id.endsWith('.want')) return amountText(control.value, control.value.state.want)
  return setting.value ? valueText(setting.value.state.value, decimals.value) : (control.value?.state.mode ?? '–')
})
const age = computed(() => {
  const s = signal.value
  if (!s) return ''
  return signalAge(s, hub.now) || (s.state.heard ? `heard ${since(s.state.heard, hub.now)} ago` : '')
})
const v = (n: number | undefined) => (n === undefined ? '' : valueText(n, places.value))
const at = (t: number | undefined) =>
  t ? clockText(t, hub.zone, { day: '2-digit', month: 'short', hour: '2-digit', minute: '2-digit' }) : ''
const chart = (from: number, until: number) => ({
  name: 'charts',
  query: { s: id, from: String(Math.round(from)), to: String(Math.round(until)) },
})
const around = (g: number[] | undefined) =>
  g ? chart(g[0]! - (g[1]! - g[0]!) / 2, g[1]! + (g[1]! - g[0]!) / 2) : { name: 'charts', query: { s: id } }
const short = (ms: number) => void router.replace({ query: { span: String(ms) } })
</script>

<template>
  <main class="page stack">
    <div class="between">
      <div>
        <h1>{{ name }}</h1>
        <span class="soft"
          >{{ id
          }}<template v-if="place">
            · <RouterLink :to="{ name: 'place', params: { id: place.id } }">{{ place.name }}</RouterLink></template
          ><template v-if="device">
            ·
            <RouterLink v-if="hub.member" :to="{ name: 'device', params: { id: device.config.id } }">{{
              device.config.name
            }}</RouterLink><template v-else>{{ device.config.name }}</template></template
          ></span
        >
      </div>
      <div class="d-flex gap-2 flex-wrap no-print">
        <RouterLink v-if="hub.owner && signal" class="btn btn-outline-secondary btn-sm" :to="{ name: 'new-alert', query: { of: id } }"
          >Tell me when …</RouterLink
        >
        {{ ' ' }}<Star v-if="signal || control" :id="signal?.config.id ?? control!.config.id" :name="name" /><RouterLink
          class="btn btn-outline-secondary"
          :to="{ name: 'charts', query: { s: id, span: String(span) } }"
          >In a chart with others</RouterLink
        >
      </div>
    </div>
    <div v-if="trouble || failed" class="note bad" role="alert">{{ trouble || failed }}</div>
    <section class="sheet now" aria-label="Now">
      <div>
        <span class="soft small-text">Now</span><br /><span class="value"
          >{{ present }}<small v-if="unit">{{ ' ' + shownUnit(unit) }}</small></span
        ><br /><span class="small-text" :class="signal && signal.state.fresh !== 'live' ? 'warn-text' : 'soft'"
          >{{ age }}<template v-if="signal && signal.state.quality !== 'good'">, {{ signal.state.quality }}</template></span
        >
      </div>
      <div class="glance">
        <table class="table" aria-label="At a glance">
          <thead>
            <tr>
              <th></th>
              <template v-if="kind === 'number'"
                ><th class="num">lowest</th>
                <th class="num">mean</th>
                <th class="num">highest</th></template
              ><template v-else-if="kind === 'onoff'"
                ><th class="num">on</th>
                <th class="num">times changed</th></template
              >
              <th v-else class="num">times changed</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(s, i) in spans" :key="s.text" :class="{ chosen: span === s.ms }">
              <td>
                <button type="button" class="pick" :aria-pressed="span === s.ms" @click="short(s.ms)">{{ s.text }}</button>
              </td>
              <template v-if="kind === 'number'">
                <td class="num">
                  {{ v(summaries[i]?.min?.v) }} <span class="soft small-text when">{{ at(summaries[i]?.min?.t) }}</span>
                </td>
                <td class="num">{{ v(summaries[i]?.time_mean ?? summaries[i]?.mean) }}</td>
                <td class="num">
                  {{ v(summaries[i]?.max?.v) }} <span class="soft small-text when">{{ at(summaries[i]?.max?.t) }}</span>
                </td>
              </template>
              <template v-else-if="kind === 'onoff'"
                ><td class="num">{{ summaries[i]?.on_ms === undefined ? '' : length(summaries[i]!.on_ms!) }}</td>
                <td class="num">{{ summaries[i]?.changes }}</td></template
              >
              <td v-else class="num">{{ summaries[i]?.changes }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>
    <section class="sheet chart" aria-label="Chart">
      <ChartSheet
        :histories="histories"
        :setpoints="setpoints"
        :marks="marks"
        :notes="near"
        :from="to - span"
        :to="to"
        :cursor="cursor"
        @zoom="(f, t) => router.push(chart(f, t))"
        @cursor="cursor = $event" />
      <p v-if="shown && !shown.count && kind !== 'text'" class="soft m-3">
        No readings in this {{ spans.find((s) => s.ms === span)?.text.toLowerCase() }}.
      </p>
    </section>
    <div class="two">
      <section v-if="shown?.bins.length && kind === 'number'" class="sheet" aria-label="Distribution">
        <h2 class="mb-2">How long at which value</h2>
        <Distribution :summary="shown" />
      </section>
      <section v-if="shown" class="sheet" aria-label="Readings and gaps">
        <h2 class="mb-2">Readings and gaps</h2>
        <p class="mb-1">
          {{ shown.count.toLocaleString('en-GB') }} readings in this {{ spans.find((s) => s.ms === span)?.text.toLowerCase()
          }}<template v-if="shown.bad">, and {{ shown.bad }} bad ones that do not count</template>.
        </p>
        <p v-if="shown.gaps" class="mb-1">
          {{ shown.gaps }} {{ shown.gaps === 1 ? 'gap' : 'gaps' }}, together {{ length(shown.gaps_ms) }}; the longest of
          <RouterLink :to="around(shown.longest_gap)"
            >{{ length(shown.longest_gap![1]! - shown.longest_gap![0]!) }}, from {{ dayText(shown.longest_gap![0]!, hub.zone) }}</RouterLink
          >.
        </p>
        <p v-else class="mb-1">No gaps.</p>
        <p v-if="shown.sums_before" class="soft mb-1">
          Before {{ dayText(Date.parse(shown.sums_before), hub.zone) }} there are sums of hours, and no single readings.
        </p>
        <KeepForm v-if="hub.member" :series="id" :signal="signal" />
      </section>
    </div>
    <section class="sheet" aria-label="All readings">
      <ReadingsTable :series="id" :unit="unit" :decimals="decimals" @changed="changed" />
    </section>
  </main>
</template>

<style scoped>
.now {
  display: flex;
  gap: 14px 48px;
  flex-wrap: wrap;
  align-items: center;
}
.now > div:first-child {
  min-width: 150px;
}
.glance {
  flex: 1 1 460px;
  overflow-x: auto;
}
.value {
  font-size: 2.2rem;
  font-weight: 620;
  line-height: 1.2;
}
.value small {
  font-size: 1.1rem;
  font-weight: 450;
  color: var(--soft);
}
.pick {
  border: 0;
  background: none;
  padding: 2px 0;
  color: inherit;
  text-decoration: underline;
  text-underline-offset: 3px;
  text-decoration-color: var(--line);
  min-width: 60px;
  text-align: left;
}
.chosen .pick {
  font-weight: 700;
  text-decoration-color: var(--ink);
}
.glance .table > :not(caption) > * > * {
  padding: 4px 10px;
}
.chart {
  padding: 14px 4px 10px 6px;
}
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 18px;
}
.two > .sheet + .sheet {
  margin-top: 0;
}
@media (max-width: 820px) {
  .two {
    grid-template-columns: minmax(0, 1fr);
  }
  .pick {
    min-height: 40px;
  }
}
@media (max-width: 520px) {
  .when {
    display: block;
  }
  .glance .table > :not(caption) > * > * {
    padding: 4px;
  }
}
</style>
