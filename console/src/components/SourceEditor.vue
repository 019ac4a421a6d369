<script setup lang="ts">
// Where in a device's messages a value is found.
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { computed, ref } from 'vue'
import type { Link, Source } from '../api'
import { words } from '../form'
import RegisterFields from './RegisterFields.vue'

const props = defineProps<{ link: Link['kind']; onoff: boolean }>()
const model = defineModel<Source>({ required: true })
type How = 'whole' | 'pointer' | 'pattern' | 'column'
const first: How = model.value.pointer ? 'pointer' : model.value.pattern ? 'pattern' : model.value.column ? 'column' : 'whole'
const how = ref<How>(first)
const topics = computed(() => props.link === 'mqtt' || props.link === 'outside')
const hows = computed(() => [
  { value: 'whole', text: topics.value ? 'the whole payload' : 'as the link has it' },
  { value: 'pointer', text: 'JSON Pointer' },
  { value: 'pattern', text: 'pattern' },
  ...(props.link === 'poll' ? [{ value: 'column', text: 'CSV column' }] : []),
])
const commas = [
  { value: '', text: 'decimal, where that is plain' },
  { value: 'decimal', text: 'decimal: 1.250,5' },
  { value: 'thousands', text: 'thousands: 1,250.5' },
]
const bit = computed(() => props.link === 'modbus' && ['coil', 'discrete'].includes(model.value.register?.table ?? ''))
function change(part: Partial<Source>) {
  const next: Record<string, unknown> = { ...model.value, ...part }
  for (const [key, v] of Object.entries(next)) if (v === '' || v === undefined || (Array.isArray(v) && !v.length)) delete next[key]
  model.value = next as Source
}
function choose(v: How) {
  how.value = v
  change({ pointer: undefined, pattern: undefined, column: undefined })
}
</script>

<template>
  <RegisterFields v-if="link === 'modbus'" :model-value="model.register" @update:model-value="(register) => change({ register })" />
  <div v-else class="fields">
    <label v-if="topics"
      ><span>Topic</span
      ><BFormInput
        size="sm"
        placeholder="the hub's own"
        :model-value="model.topic ?? ''"
        @update:model-value="(v) => change({ topic: String(v) })"
    /></label>
    <label
      ><span>Value at</span><BFormSelect size="sm" :model-value="how" :options="hows" @update:model-value="(v) => choose(v as How)"
    /></label>
    <label v-if="how === 'pointer'"
      ><span>JSON Pointer</span
      ><BFormInput
        size="sm"
        placeholder="/sensor/0/temperature"
        :model-value="model.pointer ?? ''"
        @update:model-value="(v) => change({ pointer: String(v) })"
    /></label>
    <label v-if="how === 'pattern'"
      ><span>Pattern, with (?P&lt;value&gt;…)</span
      ><BFormInput
        size="sm"
        placeholder="T=(?P<value>[0-9.]+)"
        :model-value="model.pattern ?? ''"
        @update:model-value="(v) => change({ pattern: String(v) })"
    /></label>
    <label v-if="how === 'column'"
      ><span>Column, name or number</span
      ><BFormInput size="sm" :model-value="model.column ?? ''" @update:model-value="(v) => change({ column: String(v) })"
    /></label>
    <label v-if="!onoff && (how !== 'whole' || model.topic)"
      ><span>Commas in numbers</span
      ><BFormSelect
        size="sm"
        :model-value="model.comma ?? ''"
        :options="commas"
        @update:model-value="(v) => change({ comma: v as Source['comma'] })"
    /></label>
  </div>
  <div v-if="onoff && !bit" class="fields">
    <label
      ><span>Words for on</span
      ><BFormInput
        size="sm"
        placeholder="on, true, 1"
        :model-value="(model.on ?? []).join(', ')"
        @change="(e: Event) => change({ on: words((e.target as HTMLInputElement).value) })"
    /></label>
    <label
      ><span>Words for off</span
      ><BFormInput
        size="sm"
        placeholder="off, false, 0"
        :model-value="(model.off ?? []).join(', ')"
        @change="(e: Event) => change({ off: words((e.target as HTMLInputElement).value) })"
    /></label>
  </div>
</template>
