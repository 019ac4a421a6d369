<script setup lang="ts">
// How a want is sent.
import { BFormCheckbox } from 'bootstrap-vue-next/components/BFormCheckbox'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { computed } from 'vue'
import type { Control, Link, Target } from '../api'
import { num, words } from '../form'
import RegisterFields from './RegisterFields.vue'

const props = defineProps<{ link: Link['kind']; kind?: Control['config']['kind'] }>()
const model = defineModel<Target>({ required: true })
const topics = computed(() => props.link === 'mqtt' || props.link === 'outside')
function change(part: Partial<Target>) {
  const next: Record<string, unknown> = { ...model.value, ...part }
  for (const [key, v] of Object.entries(next))
    if (v === '' || v === undefined || v === false || (Array.isArray(v) && !v.length)) delete next[key]
  model.value = next as Target
}
</script>

<template>
  <RegisterFields v-if="link === 'modbus'" writes :model-value="model.register" @update:model-value="(register) => change({ register })" />
  <div class="fields">
    <label v-if="topics"
      ><span>Topic</span
      ><BFormInput
        size="sm"
        placeholder="the hub's own"
        :model-value="model.topic ?? ''"
        @update:model-value="(v) => change({ topic: String(v) })"
    /></label>
    <label v-if="kind === 'level'" class="short"
      ><span>Number for 100 %</span
      ><BFormInput size="sm" placeholder="100" :model-value="model.full ?? ''" @update:model-value="(v) => change({ full: num(v) })"
    /></label>
    <label v-if="kind === 'choice' || kind === 'mover'"
      ><span>Words that are sent, in order</span
      ><BFormInput
        size="sm"
        placeholder="as the options"
        :model-value="(model.words ?? []).join(', ')"
        @change="(e: Event) => change({ words: words((e.target as HTMLInputElement).value) })"
    /></label>
    <label v-if="!kind || kind === 'switch'" class="short"
      ><span>{{ link === 'modbus' ? 'Number for on' : 'Word for on' }}</span
      ><BFormInput
        size="sm"
        :placeholder="link === 'modbus' ? '1' : 'on'"
        :model-value="model.on ?? ''"
        @update:model-value="(v) => change({ on: String(v) })"
    /></label>
    <label v-if="!kind || kind === 'switch'" class="short"
      ><span>{{ link === 'modbus' ? 'Number for off' : 'Word for off' }}</span
      ><BFormInput
        size="sm"
        :placeholder="link === 'modbus' ? '0' : 'off'"
        :model-value="model.off ?? ''"
        @update:model-value="(v) => change({ off: String(v) })"
    /></label>
    <label v-if="link !== 'modbus'"
      ><span>Template, with {value}</span
      ><BFormInput
        size="sm"
        placeholder="{value}"
        :model-value="model.template ?? ''"
        @update:model-value="(v) => change({ template: String(v) })"
    /></label>
    <BFormCheckbox v-if="model.topic" :model-value="!!model.retain" @update:model-value="(v) => change({ retain: !!v })"
      >the broker keeps it</BFormCheckbox
    >
  </div>
</template>
