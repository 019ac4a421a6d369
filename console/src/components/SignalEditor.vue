<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormCheckbox } from 'bootstrap-vue-next/components/BFormCheckbox'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { reactive, ref, watch } from 'vue'
import { api, ask, type Link, type Signal, type Source } from '../api'
import { num, useSend } from '../form'
import { length, unitSign, valueText } from '../format'
import CalibrationEditor from './CalibrationEditor.vue'
import SpanField from './deciding/SpanField.vue'
import SourceEditor from './SourceEditor.vue'

const props = defineProps<{ signal: Signal; link: Link['kind'] }>()
const emit = defineEmits<{ remove: [] }>()
const form = reactive({ name: '', unit: '', decimals: 0, guests: 'none' as Signal['guests'], lowest: '', highest: '', spike: '', stuck: '', interval: undefined as number | undefined, accept: undefined as number | undefined })
const source = ref<Source>({ ...props.signal.source })
const open = ref<'' | 'source' | 'calibration'>('')
const { failed, saved, send } = useSend()
const key = () => { const s = props.signal; return JSON.stringify([s.name, s.unit, s.decimals, s.guests, s.sense, s.source, s.accept_ms]) }
watch(key, () => {
  const s = props.signal
  Object.assign(form, { name: s.name, unit: s.unit, decimals: s.decimals, guests: s.guests, lowest: s.sense.lowest ?? '', highest: s.sense.highest ?? '',
    spike: s.sense.spike ?? '', stuck: s.sense.stuck_ms ? s.sense.stuck_ms / 60_000 : '', interval: undefined, accept: s.accept_ms })
  source.value = { ...s.source }
}, { immediate: true })

const change = (body: Parameters<typeof patch>[0]) => send(() => patch(body))
const patch = (body: { name?: string; unit?: string; decimals?: number; guests?: Signal['guests']; source?: Source; sense?: Signal['sense']; calibration?: Signal['calibration']; interval_ms?: number; accept_ms?: number }) =>
  ask(api.PATCH('/signals/{id}', { params: { path: { id: props.signal.id }, header: { 'If-Match': props.signal.version } }, body }))
const save = () => change({ name: form.name, unit: form.unit, decimals: Number(form.decimals), guests: form.guests })
const saveSource = () => change({ source: source.value, sense: { lowest: num(form.lowest), highest: num(form.highest), spike: num(form.spike),
  stuck_ms: num(form.stuck) ? Math.round(num(form.stuck)! * 60_000) : undefined },
  ...(form.interval ? { interval_ms: form.interval } : {}), ...(props.signal.reports === 'change' ? { accept_ms: form.accept ?? 0 } : {}) })
const relyOn = () => change({ interval_ms: props.signal.propose_ms! })
const toggle = (what: 'source' | 'calibration') => (open.value = open.value === what ? '' : what)
</script>

<template>
  <div class="block" :data-edit="signal.id">
    <form class="line" @submit.prevent="save">
      <div class="what">
        <strong>{{ signal.name }}</strong> <span v-if="signal.new" class="badge-new">new</span><br />
        <span class="soft small-text">{{ signal.id }} · {{ valueText(signal.value, signal.decimals) }} {{ unitSign(signal.unit) }}<template v-if="signal.raw_value !== undefined"> (raw {{ signal.raw_value }})</template> · {{ signal.reports === 'change' ? 'on change' : signal.interval_ms ? `every ${length(signal.interval_ms)}` : 'learning how often' }}<span v-if="signal.quality !== 'good'" class="warn-text"> · {{ signal.quality }}</span></span>
      </div>
      <label><span>Name</span><BFormInput v-model="form.name" size="sm" required /></label>
      <label class="short"><span>Unit</span><BFormInput v-model="form.unit" size="sm" placeholder="Cel, %, W" /></label>
      <label class="short"><span>Decimals</span><BFormInput v-model="form.decimals" size="sm" type="number" min="0" max="6" :disabled="signal.kind !== 'number'" /></label>
      <label class="short"><span>Guests</span><BFormSelect v-model="form.guests" size="sm" :options="[{ value: 'none', text: 'see nothing' }, { value: 'see', text: 'may see it' }]" /></label>
      <button class="btn btn-outline-secondary btn-sm">Save</button>
      <span class="after small-text" role="status" :class="{ 'warn-text': failed }">{{ failed || (saved ? 'saved' : '') }}</span>
    </form>
    <p v-if="signal.propose_ms" class="small-text warn-text mb-1">It reports every {{ length(signal.propose_ms) }} by now, and is missed as if it did every {{ length(signal.interval_ms) }}. <button type="button" class="btn btn-outline-secondary btn-sm" @click="relyOn">Rely on {{ length(signal.propose_ms) }}</button></p>
    <div class="more small-text">
      <button type="button" :aria-expanded="open === 'source'" @click="toggle('source')">Where it comes from, what can be true</button>
      <button v-if="signal.kind === 'number'" type="button" :aria-expanded="open === 'calibration'" @click="toggle('calibration')">Calibrate</button>
      <BFormCheckbox v-if="signal.kind === 'onoff'" :model-value="!!signal.calibration.invert" @update:model-value="(v) => change({ calibration: { invert: !!v } })">inverted</BFormCheckbox>
      <button type="button" @click="emit('remove')">Remove</button>
    </div>
    <form v-if="open === 'source'" class="inset stack tight" @submit.prevent="saveSource">
      <SourceEditor v-model="source" :link="link" :onoff="signal.kind === 'onoff'" />
      <div v-if="signal.kind !== 'text'" class="fields">
        <template v-if="signal.kind === 'number'">
          <label class="short"><span>Bad below</span><BFormInput v-model="form.lowest" size="sm" type="number" step="any" /></label>
          <label class="short"><span>Bad above</span><BFormInput v-model="form.highest" size="sm" type="number" step="any" /></label>
          <label><span>Suspect when it jumps by</span><BFormInput v-model="form.spike" size="sm" type="number" min="0" step="any" /></label>
        </template>
        <SpanField v-if="signal.reports === 'periodic'" v-model="form.interval" label="Missed by an interval of" :hint="signal.interval_ms ? length(signal.interval_ms) : 'learnt'" />
        <SpanField v-else v-model="form.accept" label="After a start, what was kept counts for" hint="not at all" />
        <label><span>Suspect when unchanged, min</span><BFormInput v-model="form.stuck" size="sm" type="number" min="0" step="any" /></label>
      </div>
      <div><BButton type="submit" size="sm" variant="primary">Save the mapping</BButton></div>
    </form>
    <div v-if="open === 'calibration'" class="inset"><CalibrationEditor :signal="signal" /></div>
  </div>
</template>
