<script setup lang="ts">
// All readings of a series, newest first; an owner deletes a bad one, and may take that back.
import { computed, onUnmounted, ref, watch } from 'vue'
import { api, ask, type OneReading } from '../api'
import { useSend } from '../form'
import { clockText } from '../format'
import { onReading, useHub } from '../hub'
import { shownUnit, shownValue } from '../units'
import { zonedInstant, zonedText } from '../zoned'

const props = defineProps<{ series: string; unit: string; decimals: number }>()
const emit = defineEmits<{ changed: [] }>()
const hub = useHub()
const list = ref<OneReading[]>([])
const more = ref(false)
const before = ref<number | null>(null) // the table begins here; null: with the newest
const gone = ref<OneReading | null>(null)
const { failed, busy, send } = useSend()
const raw = computed(() => list.value.some((r) => r.raw !== undefined))

async function load(further = false) {
  const last = list.value.at(-1)
  const to = further && last ? last.t : before.value
  await send(async () => {
    const page = await ask(
      api.GET('/readings', {
        params: { query: { series: props.series, newest: true, limit: 50, ...(to ? { to: new Date(to).toISOString() } : {}) } },
      }),
    )
    list.value = further ? [...list.value, ...page.readings] : page.readings
    more.value = page.more
  })
}
watch(
  () => props.series,
  () => void load(),
  { immediate: true },
)
const day = computed(() => zonedText(before.value ? before.value - 1 : (list.value[0]?.t ?? Date.now()), hub.zone).slice(0, 10))
function jump(text: string) {
  const at = text ? zonedInstant(`${text}T00:00`, hub.zone) + 24 * 3600_000 : NaN
  before.value = Number.isNaN(at) || at > Date.now() ? null : at
  void load()
}
async function remove(r: OneReading) {
  const done = await send(() =>
    ask(
      api.DELETE('/readings', {
        params: { query: { series: props.series, from: new Date(r.t).toISOString(), to: new Date(r.t + 1).toISOString() } },
      }),
    ),
  )
  if (!done) return
  list.value = list.value.filter((x) => x.t !== r.t)
  gone.value = r
  emit('changed')
}
async function undo() {
  const r = gone.value!
  if (!(await send(() => ask(api.POST('/readings', { body: { series: props.series, readings: [r] } }))))) return
  gone.value = null
  list.value = [...list.value, r].sort((a, b) => b.t - a.t)
  emit('changed')
}
const stop = onReading((s) => {
  const at = s.config.id === props.series && s.state.at && s.state.value !== undefined ? Date.parse(s.state.at) : 0
  if (before.value === null && at > (list.value[0]?.t ?? 0))
    list.value = [
      { t: at, v: s.state.value!, q: s.state.quality === 'good' ? undefined : s.state.quality, raw: s.state.raw_value },
      ...list.value,
    ]
})
onUnmounted(stop)
const at = (t: number) =>
  clockText(t, hub.zone, {
    weekday: 'short',
    day: '2-digit',
    month: 'short',
    year: 'numeric',
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
  })
const text = (v: OneReading['v']) => shownValue(v, props.unit, props.decimals)
</script>

<template>
  <div class="between mb-2">
    <h2>All readings</h2>
    <div class="d-flex gap-2 align-items-center no-print">
      <label class="soft small-text" for="until">until the end of</label
      ><input
        id="until"
        class="form-control form-control-sm date"
        type="date"
        :value="day"
        @change="jump(($event.target as HTMLInputElement).value)" /><button
        v-if="before"
        type="button"
        class="btn btn-outline-secondary btn-sm"
        @click="jump('')">
        Newest
      </button>
    </div>
  </div>
  <p v-if="failed" class="note bad small-text" role="alert">{{ failed }}</p>
  <p v-if="gone" class="note small-text" role="status">
    <span>{{ text(gone.v) }} {{ shownUnit(unit) }} of {{ at(gone.t) }} is deleted.</span
    ><button type="button" class="btn btn-outline-secondary btn-sm" :disabled="busy" @click="undo">Bring it back</button>
  </p>
  <p v-if="!list.length" class="soft mb-0">{{ busy ? 'Asking the hub …' : 'There are none.' }}</p>
  <table v-else class="table">
    <thead>
      <tr>
        <th>At</th>
        <th class="num">{{ shownUnit(unit) || 'Value' }}</th>
        <th v-if="raw" class="num">Raw</th>
        <th>Quality</th>
        <th v-if="hub.owner"></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="r in list" :key="r.t" :class="{ doubtful: r.q && r.q !== 'good' }">
        <td>{{ at(r.t) }}</td>
        <td class="num">{{ text(r.v) }}</td>
        <td v-if="raw" class="num soft">{{ r.raw ?? '' }}</td>
        <td :class="r.q && r.q !== 'good' ? 'warn-text' : 'soft'">{{ r.q ?? 'good' }}</td>
        <td v-if="hub.owner" class="num">
          <button type="button" class="gone" :aria-label="`Delete ${text(r.v)} of ${at(r.t)}`" :disabled="busy" @click="remove(r)">
            ×
          </button>
        </td>
      </tr>
    </tbody>
  </table>
  <button v-if="more" type="button" class="btn btn-outline-secondary mt-2 no-print" :disabled="busy" @click="load(true)">Older ones</button>
</template>

<style scoped>
.table {
  max-width: 720px;
}
.date {
  width: auto;
}
.gone {
  border: 0;
  background: none;
  color: var(--soft);
  min-width: 32px;
  min-height: 28px;
}
.table > :not(caption) > * > * {
  padding: 3px 10px;
}
@media (max-width: 820px) {
  .gone {
    min-width: 44px;
    min-height: 44px;
  }
  .table > :not(caption) > * > * {
    padding: 2px 6px;
  }
}
</style>
