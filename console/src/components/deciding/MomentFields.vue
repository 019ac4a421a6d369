<script setup lang="ts">
import { computed } from 'vue'
import type { Moment } from '../../api'
import { clock } from '../../clocks'

defineProps<{ label: string }>()
const model = defineModel<Moment>({ required: true })
const time = computed({
  get: () => clock(Math.max(0, model.value.minutes)),
  set: (v) => {
    const [h, m] = v.split(':').map(Number)
    model.value = { ...model.value, minutes: (h ?? 0) * 60 + (m ?? 0) }
  },
})
const early = computed({
  get: () => (model.value.not_before === undefined ? '' : clock(model.value.not_before)),
  set: (v) => {
    const [h, m] = v.split(':').map(Number)
    const next = { ...model.value, not_before: (h ?? 0) * 60 + (m ?? 0) }
    if (!v) delete (next as Partial<Moment>).not_before
    model.value = next
  },
})
function base(e: Event) {
  const b = (e.target as HTMLSelectElement).value as Moment['base']
  model.value = { base: b, minutes: b === 'clock' ? 480 : 0 }
}
</script>

<template>
  <label
    ><span class="soft small-text">{{ label }}</span>
    <select class="form-select form-select-sm" :value="model.base" @change="base">
      <option value="clock">at</option>
      <option value="sunrise">sunrise</option>
      <option value="sunset">sunset</option>
    </select></label
  >
  <label v-if="model.base === 'clock'"
    ><span class="soft small-text">Time of day</span><input v-model="time" class="form-control form-control-sm" type="time"
  /></label>
  <template v-else>
    <label
      ><span class="soft small-text">Minutes after it</span
      ><input
        class="form-control form-control-sm"
        type="number"
        min="-720"
        max="720"
        :value="model.minutes"
        @input="model = { ...model, minutes: Number(($event.target as HTMLInputElement).value) }"
    /></label>
    <label><span class="soft small-text">Not before</span><input v-model="early" class="form-control form-control-sm" type="time" /></label>
  </template>
</template>
