<script setup lang="ts">
// Where a value lies in a Modbus device.
import { BFormCheckbox } from 'bootstrap-vue-next/components/BFormCheckbox'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { computed } from 'vue'
import type { Register } from '../api'
import { num } from '../form'

const props = defineProps<{ writes?: boolean }>()
const model = defineModel<Register | undefined>({ required: true })
const tables = computed(() => [
  { value: '', text: 'none' },
  { value: 'coil', text: 'coil (bit)' },
  { value: 'holding', text: 'holding register' },
  ...(props.writes
    ? []
    : [
        { value: 'discrete', text: 'discrete input (bit)' },
        { value: 'input', text: 'input register' },
      ]),
])
const types = [
  { value: '', text: '16 bits, unsigned' },
  { value: 's16', text: '16 bits, signed' },
  { value: 'u32', text: '32 bits, unsigned' },
  { value: 's32', text: '32 bits, signed' },
  { value: 'f32', text: '32 bits, float' },
]
const bit = computed(() => model.value?.table === 'coil' || model.value?.table === 'discrete')
function change(part: Partial<Register>) {
  model.value = { table: 'holding', address: 0, ...model.value, ...part }
  if (bit.value) model.value = { table: model.value.table, address: model.value.address }
}
</script>

<template>
  <div class="fields">
    <label
      ><span>Table</span
      ><BFormSelect
        size="sm"
        :model-value="model?.table ?? ''"
        :options="tables"
        @update:model-value="(v) => (v ? change({ table: v as Register['table'] }) : (model = undefined))"
    /></label>
    <template v-if="model">
      <label class="short"
        ><span>Address</span
        ><BFormInput
          size="sm"
          type="number"
          min="0"
          max="65535"
          :model-value="model.address"
          @update:model-value="(v) => change({ address: num(v) ?? 0 })"
      /></label>
      <template v-if="!bit">
        <label
          ><span>Number</span
          ><BFormSelect
            size="sm"
            :model-value="model.type ?? ''"
            :options="types"
            @update:model-value="(v) => change({ type: v as Register['type'] })"
        /></label>
        <label v-if="!writes" class="short"
          ><span>Times</span
          ><BFormInput
            size="sm"
            type="number"
            step="any"
            placeholder="1"
            :model-value="model.scale ?? ''"
            @update:model-value="(v) => change({ scale: num(v) })"
        /></label>
        <BFormCheckbox v-if="model.type?.endsWith('32')" :model-value="!!model.swap" @update:model-value="(v) => change({ swap: !!v })"
          >low word first</BFormCheckbox
        >
      </template>
    </template>
  </div>
</template>
