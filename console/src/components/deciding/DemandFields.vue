<script setup lang="ts">
// One reason in auto to be on, as a guided form.
import { computed } from 'vue'
import type { Control, Demand, Moment } from '../../api'
import { demandText } from '../../sentences'
import FormulaBox from './FormulaBox.vue'
import MomentFields from './MomentFields.vue'
import ScheduleExtras from './ScheduleExtras.vue'
import SpanField from './SpanField.vue'

const props = defineProps<{ control: Control; n: number }>()
const model = defineModel<Demand>({ required: true })
const emit = defineEmits<{ remove: [] }>()
const kinds = computed(() => [
  { value: 'hold_above', text: 'keep above a setpoint (heat, humidify)' }, { value: 'hold_below', text: 'keep below a setpoint (cool, dry, extract)' },
  { value: 'schedule', text: 'at times of day' }, { value: 'day_length', text: 'hours of light' }, { value: 'formula', text: 'by a formula' },
  { value: 'exercise', text: 'a short run now and then' },
  ...(props.control.kind === 'level' ? [{ value: 'curve', text: 'by a curve' }, { value: 'regulate', text: 'regulated (PI)' }] : []),
])
const d = computed(() => model.value)
function put(part: Partial<Demand>) {
  const next: Record<string, unknown> = { ...model.value, ...part }
  for (const [k, v] of Object.entries(next)) if (v === undefined || v === '') delete next[k]
  model.value = next as Demand
}
const noon: Moment = { base: 'clock', minutes: 720 }
function become(e: Event) {
  const kind = (e.target as HTMLSelectElement).value as Demand['kind']
  const base = { kind, to: d.value.to }
  const more: Record<string, Partial<Demand>> = {
    hold_above: { of: d.value.of ?? '', target: d.value.target ?? '', band: d.value.band ?? 0.5 }, hold_below: { of: d.value.of ?? '', target: d.value.target ?? '', band: d.value.band ?? 2 },
    schedule: { schedule: { windows: [{ start: { base: 'clock', minutes: 480 }, for_ms: 3600_000 }] } }, day_length: { daylight: '', hours: '13' }, formula: { when: '' },
    exercise: { every_ms: 7 * 86400_000, for_ms: 30_000, at: noon }, curve: { of: '', points: [[20, 0], [30, 100]] }, regulate: { of: '', target: '', gain: 10, integral_ms: 120_000 },
  }
  model.value = { ...base, ...more[kind] } as Demand
  if (base.to === undefined) delete model.value.to
}
type Window = NonNullable<NonNullable<Demand['schedule']>['windows']>[number]
const windows = computed(() => d.value.schedule?.windows ?? [])
function setWindows(list: Window[]) {
  const schedule = { ...d.value.schedule, windows: list }
  if (!list.length) delete (schedule as Partial<typeof schedule>).windows
  put({ schedule })
}
const setWindow = (i: number, part: Partial<Window>) => setWindows(windows.value.map((w, j) => {
  if (j !== i) return w
  const next = { ...w, ...part } as Record<string, unknown>
  for (const [k, v] of Object.entries(next)) if (v === undefined) delete next[k]
  return next as Window
}))
const dayNames = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun']
function toggleDay(i: number, day: number) {
  const have = windows.value[i]!.days ?? [1, 2, 3, 4, 5, 6, 7]
  const next = have.includes(day) ? have.filter((x) => x !== day) : [...have, day].sort()
  setWindow(i, { days: next.length === 7 || !next.length ? undefined : next })
}
const points = computed({ get: () => (d.value.points ?? []).map((p) => p.join(':')).join(', '),
  set: (text: string) => put({ points: text.split(',').map((p) => p.split(':').map(Number)).filter((p) => p.length === 2 && p.every((x) => !Number.isNaN(x))) }) })
const full = computed(() => ({ level: '100 %', switch: 'on', choice: 'the last option', mover: 'open' })[props.control.kind])
</script>

<template>
  <fieldset class="inset stack tight">
    <legend class="small-text">{{ n === 1 ? 'It asks to run' : 'or' }} <span class="soft">{{ demandText(d) }}</span></legend>
    <div class="fields">
      <label class="wide"><span class="soft small-text">How</span><select class="form-select form-select-sm" :value="d.kind" :aria-label="`Demand ${n}`" @change="become"><option v-for="k in kinds" :key="k.value" :value="k.value">{{ k.text }}</option></select></label>
      <label v-if="control.kind === 'level' && d.kind !== 'curve' && d.kind !== 'regulate'" class="short"><span class="soft small-text">At level, %</span><input class="form-control form-control-sm" type="number" min="0" max="100" :placeholder="full" :value="d.to" @input="put({ to: ($event.target as HTMLInputElement).value === '' ? undefined : Number(($event.target as HTMLInputElement).value) })" /></label>
      <label v-if="control.kind === 'choice'" class="short"><span class="soft small-text">To</span><select class="form-select form-select-sm" :value="d.to ?? (control.options?.length ?? 1) - 1" @change="put({ to: Number(($event.target as HTMLSelectElement).value) })"><option v-for="(o, i) in control.options" :key="o" :value="i">{{ o }}</option></select></label>
    </div>
    <div v-if="d.kind === 'hold_above' || d.kind === 'hold_below'" class="fields">
      <FormulaBox quantity label="What is held" placeholder="drying_room.temperature" :model-value="d.of" @update:model-value="(v) => put({ of: v })" />
      <FormulaBox quantity label="Setpoint: a setting or a number" placeholder="drying_room.setpoint" :model-value="d.target" @update:model-value="(v) => put({ target: v })" />
      <label class="short"><span class="soft small-text">Dead band</span><input class="form-control form-control-sm" type="number" min="0" step="any" :value="d.band" @input="put({ band: Number(($event.target as HTMLInputElement).value) })" /></label>
    </div>
    <template v-else-if="d.kind === 'schedule'">
      <div v-for="(w, i) in windows" :key="i" class="fields window">
        <MomentFields label="Starts" :model-value="w.start" @update:model-value="(start) => setWindow(i, { start })" />
        <label><span class="soft small-text">Then</span><select class="form-select form-select-sm" :value="w.end ? 'end' : 'for'" @change="($event.target as HTMLSelectElement).value === 'end' ? setWindow(i, { end: { base: 'clock', minutes: 1080 }, for_ms: undefined }) : setWindow(i, { end: undefined, for_ms: 3600000 })"><option value="for">for a time</option><option value="end">until</option></select></label>
        <MomentFields v-if="w.end" label="Ends" :model-value="w.end" @update:model-value="(end) => setWindow(i, { end })" />
        <SpanField v-else label="For" :model-value="w.for_ms" @update:model-value="(v) => setWindow(i, { for_ms: v })" />
        <label class="short"><span class="soft small-text">Times a day</span><input class="form-control form-control-sm" type="number" min="1" max="500" :value="w.times ?? 1" @input="Number(($event.target as HTMLInputElement).value) > 1 ? setWindow(i, { times: Number(($event.target as HTMLInputElement).value), every_ms: w.every_ms ?? 3600000 }) : setWindow(i, { times: undefined, every_ms: undefined })" /></label>
        <SpanField v-if="w.times" label="Every" :model-value="w.every_ms" @update:model-value="(v) => setWindow(i, { every_ms: v })" />
        <div class="days" role="group" aria-label="Days"><button v-for="(name, k) in dayNames" :key="name" type="button" :aria-pressed="!w.days || w.days.includes(k + 1)" :class="{ chosen: !w.days || w.days.includes(k + 1) }" @click="toggleDay(i, k + 1)">{{ name }}</button></div>
        <button v-if="windows.length + (d.schedule?.once?.length ?? 0) > 1" type="button" class="btn btn-outline-secondary btn-sm" @click="setWindows(windows.filter((_, j) => j !== i))">Remove</button>
      </div>
      <div><button type="button" class="btn btn-outline-secondary btn-sm" @click="setWindows([...windows, { start: { base: 'clock', minutes: 1080 }, for_ms: 3600000 }])">One more time</button></div>
      <ScheduleExtras :model-value="d.schedule ?? {}" @update:model-value="(schedule) => put({ schedule })" />
    </template>
    <div v-else-if="d.kind === 'day_length'" class="fields">
      <FormulaBox label="It is light when" placeholder="yard.daylight > 40" :model-value="d.daylight" @update:model-value="(v) => put({ daylight: v })" />
      <FormulaBox quantity label="Hours: a setting or a number" placeholder="yard.hours" :model-value="d.hours" @update:model-value="(v) => put({ hours: v })" />
    </div>
    <div v-else-if="d.kind === 'formula'" class="fields">
      <FormulaBox label="On when" :model-value="d.when" @update:model-value="(v) => put({ when: v })" />
      <FormulaBox label="Until (empty: when that is no longer so)" :model-value="d.until" @update:model-value="(v) => put({ until: v })" />
      <SpanField label="Must hold for" :model-value="d.after_ms" @update:model-value="(v) => put({ after_ms: v })" />
    </div>
    <div v-else-if="d.kind === 'exercise'" class="fields">
      <SpanField label="Where it did not run for" :model-value="d.every_ms" @update:model-value="(v) => put({ every_ms: v })" />
      <SpanField label="For" :model-value="d.for_ms" @update:model-value="(v) => put({ for_ms: v })" />
      <MomentFields label="At" :model-value="d.at ?? noon" @update:model-value="(at) => put({ at })" />
    </div>
    <div v-else-if="d.kind === 'curve'" class="fields">
      <FormulaBox quantity label="Of" placeholder="kiln.chamber" :model-value="d.of" @update:model-value="(v) => put({ of: v })" />
      <label><span class="soft small-text">Points, quantity:level</span><input v-model.lazy="points" class="form-control form-control-sm mono" placeholder="20:0, 30:50, 40:100" /></label>
    </div>
    <div v-else class="fields">
      <FormulaBox quantity label="What is regulated" :model-value="d.of" @update:model-value="(v) => put({ of: v })" />
      <FormulaBox quantity label="Setpoint" :model-value="d.target" @update:model-value="(v) => put({ target: v })" />
      <label class="short"><span class="soft small-text">Gain, % per unit</span><input class="form-control form-control-sm" type="number" min="0" step="any" :value="d.gain" @input="put({ gain: Number(($event.target as HTMLInputElement).value) })" /></label>
      <SpanField label="Integral time" :model-value="d.integral_ms" @update:model-value="(v) => put({ integral_ms: v })" />
      <label class="check"><input type="checkbox" class="form-check-input" :checked="d.cools" @change="put({ cools: ($event.target as HTMLInputElement).checked || undefined })" /> more of it makes less of that</label>
    </div>
    <div class="fields">
      <label class="check"><input type="checkbox" class="form-check-input" :checked="d.floor" @change="put({ floor: ($event.target as HTMLInputElement).checked || undefined })" /> protects, as from frost: holds even when a preset switched off</label>
      <button type="button" class="btn btn-outline-secondary btn-sm" @click="emit('remove')">Remove</button>
    </div>
  </fieldset>
</template>

<style scoped>
.wide { flex: 1 1 260px !important; }
legend { margin: 0; }
.window + .window { border-top: 1px dashed var(--line); padding-top: 8px; }
.days { display: flex; flex-wrap: wrap; gap: 4px; }
.days button { border: 1px solid var(--line); background: var(--sheet); color: var(--soft); border-radius: 8px; min-height: 34px; padding: 0 8px; font-size: 0.8125rem; }
.days .chosen { background: var(--ink); color: var(--sheet); border-color: var(--ink); }
.check { display: flex !important; gap: 8px; align-items: center; flex: 1 1 240px !important; }
@media (max-width: 820px) { .days button { min-height: 44px; } }
</style>
