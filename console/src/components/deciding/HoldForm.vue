<script setup lang="ts">
// What is held, at which setpoint, and how far from it.
import type { Demand } from '../../api'
import { filled } from '../../form'
import FormulaBox from './FormulaBox.vue'

const d = defineModel<Demand>({ required: true })
const put = (part: Partial<Demand>) => (d.value = filled({ ...d.value, ...part }))
</script>

<template>
  <div class="fields">
    <FormulaBox
      quantity
      label="What is held"
      placeholder="drying_room.temperature"
      :model-value="d.of"
      @update:model-value="(v) => put({ of: v })" />
    <FormulaBox
      quantity
      label="Setpoint: a setting or a number"
      placeholder="drying_room.setpoint"
      :model-value="d.target"
      @update:model-value="(v) => put({ target: v })" />
    <label class="short"
      ><span class="soft small-text">Dead band</span
      ><input
        class="form-control form-control-sm"
        type="number"
        min="0"
        step="any"
        :value="d.band"
        @input="put({ band: Number(($event.target as HTMLInputElement).value) })"
    /></label>
  </div>
</template>
