<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormCheckbox } from 'bootstrap-vue-next/components/BFormCheckbox'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { reactive, ref, watch } from 'vue'
import { keepPart, type Link, type Signal, type Source } from '../api'
import { num, useSend } from '../form'
import { length, unitSign, valueText } from '../format'
import CalibrationEditor from './CalibrationEditor.vue'
import SpanField from './deciding/SpanField.vue'
import SourceEditor from './SourceEditor.vue'

const props = defineProps<{ signal: Signal; link: Link['kind'] }>()
const emit = defineEmits<{ remove: [] }>()
const form = reactive({
  name: '',
  unit: '',
  decimals: 0,
  guests: 'none' as Signal['config']['guests'],
  lowest: '',
  highest: '',
  spike: '',
  stuck: '',
  interval: undefined as number | undefined,
  accept: undefined as number | undefined,
})
const source = ref<Source>({ ...props.signal.config.source })
const open = ref<'' | 'source' | 'calibration'>('')
const { failed, saved, send } = useSend()
const key = () => {
  const s = props.signal
  return JSON.stringify([
    s.config.name,
    s.config.unit,
    s.config.decimals,
    s.config.guests,
    s.config.sense,
    s.config.source,
    s.config.accept_ms,
  ])
}
watch(
  key,
  () => {
    const s = props.signal
    Object.assign(form, {
      name: s.config.name,
      unit: s.config.unit,
      decimals: s.config.decimals,
      guests: s.config.guests,
      lowest: s.config.sense.lowest ?? '',
      highest: s.config.sense.highest ?? '',
      spike: s.config.sense.spike ?? '',
      stuck: s.config.sense.stuck_ms ? s.config.sense.stuck_ms / 60_000 : '',
      interval: undefined,
      accept: s.config.accept_ms,
    })
    source.value = { ...s.config.source }
  },
  { immediate: true },
)

const change = (fields: Partial<Signal['config']>) =>
  send(() => keepPart('signals', { ...props.signal.config, ...fields }, props.signal.version))
const save = () => change({ name: form.name, unit: form.unit, decimals: Number(form.decimals), guests: form.guests })
const saveSource = () =>
  change({
    source: source.value,
    sense: {
      lowest: num(form.lowest),
      highest: num(form.highest),
      spike: num(form.spike),
      stuck_ms: num(form.stuck) ? Math.round(num(form.stuck)! * 60_000) : undefined,
    },
    ...(form.interval ? { interval_ms: form.interval } : {}),
    ...(props.signal.config.reports === 'change' ? { accept_ms: form.accept ?? 0 } : {}),
  })
const relyOn = () => change({ interval_ms: props.signal.state.propose_ms! })
const toggle = (what: 'source' | 'calibration') => (open.value = open.value === what ? '' : what)
</script>

<template>
  <div class="block" :data-edit="signal.config.id">
    <form class="line" @submit.prevent="save">
      <div class="what">
        <strong>{{ signal.config.name }}</strong> <span v-if="signal.config.new" class="badge-new">new</span><br />
        <span class="soft small-text"
          >{{ signal.config.id }} · {{ valueText(signal.state.value, signal.config.decimals) }} {{ unitSign(signal.config.unit)
          }}<template v-if="signal.state.raw_value !== undefined"> (raw {{ signal.state.raw_value }})</template> ·
          {{
            signal.config.reports === 'change'
              ? 'on change'
              : signal.state.interval_ms
                ? `every ${length(signal.state.interval_ms)}`
                : 'learning how often'
          }}<span v-if="signal.state.quality !== 'good'" class="warn-text"> · {{ signal.state.quality }}</span></span
        >
      </div>
      <label><span>Name</span><BFormInput v-model="form.name" size="sm" required /></label>
      <label class="short"><span>Unit</span><BFormInput v-model="form.unit" size="sm" placeholder="Cel, %, W" /></label>
      <label class="short"
        ><span>Decimals</span
        ><BFormInput v-model="form.decimals" size="sm" type="number" min="0" max="6" :disabled="signal.config.kind !== 'number'"
      /></label>
      <label class="short"
        ><span>Guests</span
        ><BFormSelect
          v-model="form.guests"
          size="sm"
          :options="[
            { value: 'none', text: 'see nothing' },
            { value: 'see', text: 'may see it' },
          ]"
      /></label>
      <button class="btn btn-outline-secondary btn-sm">Save</button>
      <span class="after small-text" role="status" :class="{ 'warn-text': failed }">{{ failed || (saved ? 'saved' : '') }}</span>
    </form>
    <p v-if="signal.state.propose_ms" class="small-text warn-text mb-1">
      It reports every {{ length(signal.state.propose_ms) }} by now, and is missed as if it did every
      {{ length(signal.state.interval_ms) }}.
      <button type="button" class="btn btn-outline-secondary btn-sm" @click="relyOn">Rely on {{ length(signal.state.propose_ms) }}</button>
    </p>
    <div class="more small-text">
      <button type="button" :aria-expanded="open === 'source'" @click="toggle('source')">Where it comes from, what can be true</button>
      <button v-if="signal.config.kind === 'number'" type="button" :aria-expanded="open === 'calibration'" @click="toggle('calibration')">
        Calibrate
      </button>
      <BFormCheckbox
        v-if="signal.config.kind === 'onoff'"
        :model-value="!!signal.config.calibration.invert"
        @update:model-value="(v) => change({ calibration: { invert: !!v } })"
        >inverted</BFormCheckbox
      >
      <button type="button" @click="emit('remove')">Remove</button>
    </div>
    <form v-if="open === 'source'" class="inset stack tight" @submit.prevent="saveSource">
      <SourceEditor v-model="source" :link="link" :onoff="signal.config.kind === 'onoff'" />
      <div v-if="signal.config.kind !== 'text'" class="fields">
        <template v-if="signal.config.kind === 'number'">
          <label class="short"><span>Bad below</span><BFormInput v-model="form.lowest" size="sm" type="number" step="any" /></label>
          <label class="short"><span>Bad above</span><BFormInput v-model="form.highest" size="sm" type="number" step="any" /></label>
          <label><span>Suspect when it jumps by</span><BFormInput v-model="form.spike" size="sm" type="number" min="0" step="any" /></label>
        </template>
        <SpanField
          v-if="signal.config.reports === 'periodic'"
          v-model="form.interval"
          label="Missed by an interval of"
          :hint="signal.state.interval_ms ? length(signal.state.interval_ms) : 'learnt'" />
        <SpanField v-else v-model="form.accept" label="After a start, what was kept counts for" hint="not at all" />
        <label
          ><span>Suspect when unchanged, min</span><BFormInput v-model="form.stuck" size="sm" type="number" min="0" step="any"
        /></label>
      </div>
      <div><BButton type="submit" size="sm" variant="primary">Save the mapping</BButton></div>
    </form>
    <div v-if="open === 'calibration'" class="inset"><CalibrationEditor :signal="signal" /></div>
  </div>
</template>
