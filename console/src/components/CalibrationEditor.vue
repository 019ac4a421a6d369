<script setup lang="ts">
// How a signal's raw numbers become readings, with what becomes of the newest one while the board is sending.
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { computed, reactive, ref, watch } from 'vue'
import { api, ask, keepPart, sentence, type Calibrated, type Calibration, type Signal } from '../api'
import { num, useSend } from '../form'
import { unitSign } from '../format'

const props = defineProps<{ signal: Signal }>()
const c = props.signal.config.calibration
const form = reactive({
  method: (c.method ?? '') as NonNullable<Calibration['method']>,
  points: (c.points?.length
    ? c.points
    : [
        [0, 0],
        [1, 1],
      ]
  ).map(([a, b]) => [String(a), String(b)]),
  divider: {
    r1: '100000',
    r2: '22000',
    reference: '3.3',
    counts: '1023',
    highest: '15',
    limit: '3.3',
    ...Object.fromEntries(Object.entries(c.divider ?? {}).map(([k, v]) => [k, String(v)])),
  },
  offset: String(c.offset ?? ''),
  min: String(c.min ?? ''),
  max: String(c.max ?? ''),
  from: '24',
})
const methods = [
  { value: '', text: 'none' },
  { value: 'two_point', text: 'two points' },
  { value: 'gain', text: 'one reference meter' },
  { value: 'divider', text: 'resistor divider' },
  { value: 'table', text: 'table' },
]
const { failed, saved, busy, send } = useSend()
const tried = ref<Calibrated | null>(null)
const wrong = ref('')
const done = ref('')
const raw = computed(
  () => props.signal.state.raw_value ?? (typeof props.signal.state.value === 'number' ? props.signal.state.value : undefined),
)
const rows = computed(() => (({ two_point: 2, gain: 1, table: form.points.length }) as Record<string, number>)[form.method] ?? 0)
watch(rows, (n) => {
  while (form.points.length < n) form.points.push(['', ''])
})

const calibration = computed<Calibration>(() => {
  const out: Calibration = { method: form.method }
  if (rows.value) out.points = form.points.slice(0, rows.value).map((p) => p.map((v) => num(v) ?? NaN)) as Calibration['points']
  if (form.method === 'divider') {
    const d = form.divider
    out.divider = {
      r1: num(d.r1) ?? 0,
      r2: num(d.r2) ?? 0,
      reference: num(d.reference) ?? 0,
      counts: num(d.counts) ?? 0,
      highest: num(d.highest),
      limit: num(d.limit),
    }
  }
  if (num(form.offset)) out.offset = num(form.offset)
  if (num(form.min) !== undefined) out.min = num(form.min)
  if (num(form.max) !== undefined) out.max = num(form.max)
  return out
})
const complete = computed(() => !JSON.stringify(calibration.value).includes('null'))

let turn = 0
watch(
  [calibration, raw],
  async () => {
    if (!complete.value) return
    const mine = ++turn
    try {
      const got = await ask(
        api.POST('/calibrations/try', { body: { calibration: calibration.value, raw: raw.value === undefined ? [] : [raw.value] } }),
      )
      if (mine === turn) {
        tried.value = got
        wrong.value = ''
      }
    } catch (e) {
      if (mine === turn) {
        tried.value = null
        wrong.value = sentence(e)
      }
    }
  },
  { immediate: true },
)

const save = () => send(() => keepPart('signals', { ...props.signal.config, calibration: calibration.value }, props.signal.version))
const here = (value: number) => `${Number(value.toPrecision(6))} ${unitSign(props.signal.config.unit)}`
const month = 30 * 24 * 3600_000 // a piece of which progress is told
async function again() {
  done.value = ''
  const to = new Date(),
    from = new Date(to.getTime() - (num(form.from) ?? 24) * 3600_000)
  if (
    await send(async () => {
      let changed = 0
      for (let at = from.getTime(); at < to.getTime(); at += month) {
        const r = await ask(
          api.POST('/signals/{id}/recalibrate', {
            params: { path: { id: props.signal.config.id } },
            body: { from: new Date(at).toISOString(), to: new Date(Math.min(at + month, to.getTime())).toISOString() },
          }),
        )
        changed += r.changed
        done.value =
          `${changed} readings changed` +
          (at + month < to.getTime()
            ? `, ${Math.round((100 * (at + month - from.getTime())) / (to.getTime() - from.getTime()))} % done`
            : '')
      }
    })
  )
    saved.value = false
}
const pointTo = (i: number) => {
  if (raw.value !== undefined) form.points[i]![0] = String(raw.value)
}
</script>

<template>
  <form class="stack tight" @submit.prevent="save">
    <div class="fields">
      <label><span>Calibration</span><BFormSelect v-model="form.method" size="sm" :options="methods" /></label>
      <label class="short"
        ><span>Offset</span><BFormInput v-model="form.offset" size="sm" type="number" step="any" placeholder="0"
      /></label>
      <label class="short"><span>Not below</span><BFormInput v-model="form.min" size="sm" type="number" step="any" /></label>
      <label class="short"><span>Not above</span><BFormInput v-model="form.max" size="sm" type="number" step="any" /></label>
    </div>
    <div v-for="i in rows" :key="i" class="fields">
      <label class="short"
        ><span>Raw</span><BFormInput v-model="form.points[i - 1]![0]" size="sm" type="number" step="any" required
      /></label>
      <label class="short"
        ><span>{{ form.method === 'gain' ? 'Reference meter says' : 'Value' }}</span
        ><BFormInput v-model="form.points[i - 1]![1]" size="sm" type="number" step="any" required
      /></label>
      <BButton v-if="raw !== undefined" size="sm" variant="outline-secondary" @click="pointTo(i - 1)">Raw is {{ raw }} now</BButton>
      <BButton v-if="form.method === 'table' && rows > 2" size="sm" variant="outline-secondary" @click="form.points.splice(i - 1, 1)"
        >Leave out</BButton
      >
    </div>
    <div v-if="form.method === 'table'">
      <BButton size="sm" variant="outline-secondary" @click="form.points.push(['', ''])">One more point</BButton>
    </div>
    <div v-if="form.method === 'divider'" class="fields">
      <label class="short"
        ><span>R1, input to pin, Ω</span><BFormInput v-model="form.divider.r1" size="sm" type="number" step="any"
      /></label>
      <label class="short"
        ><span>R2, pin to ground, Ω</span><BFormInput v-model="form.divider.r2" size="sm" type="number" step="any"
      /></label>
      <label class="short"
        ><span>Reference, V</span><BFormInput v-model="form.divider.reference" size="sm" type="number" step="any"
      /></label>
      <label class="short"><span>Highest count</span><BFormInput v-model="form.divider.counts" size="sm" type="number" step="any" /></label>
      <label class="short"
        ><span>Input may reach, V</span><BFormInput v-model="form.divider.highest" size="sm" type="number" step="any"
      /></label>
      <label class="short"><span>Pin stands, V</span><BFormInput v-model="form.divider.limit" size="sm" type="number" step="any" /></label>
    </div>
    <p class="mb-0 becomes" aria-live="polite">
      <span v-if="wrong" class="warn-text">{{ wrong }}</span>
      <template v-else-if="raw !== undefined && tried?.values.length"
        >raw <strong>{{ raw }}</strong> → <strong>{{ here(tried.values[0]!) }}</strong></template
      >
      <span v-else class="soft">Nothing was measured yet; what comes is shown here as raw → value.</span>
      <span v-if="tried?.factor" class="soft"> · one count is {{ here(tried.factor) }}</span>
    </p>
    <div v-if="tried?.warning" class="note" role="alert">{{ tried.warning }}</div>
    <div class="fields">
      <BButton type="submit" size="sm" variant="primary" :disabled="busy || !complete">Save the calibration</BButton>
      <label class="short"
        ><span>The last hours too</span><BFormInput v-model="form.from" size="sm" type="number" min="0.1" step="any"
      /></label>
      <BButton size="sm" variant="outline-secondary" :disabled="busy" @click="again">Recalibrate them</BButton>
      <span role="status" class="small-text" :class="{ 'warn-text': failed }">{{
        failed || done || (saved ? 'saved; earlier readings stay as they are' : '')
      }}</span>
    </div>
  </form>
</template>

<style scoped>
.becomes {
  font-size: 1.05rem;
}
</style>
