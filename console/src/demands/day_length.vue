<script lang="ts">
import type { DemandKind } from '../demands'

export const kind: DemandKind = {
  title: 'hours of light',
  place: 4,
  fresh: () => ({ daylight: '', hours: '13' }),
}
</script>

<script setup lang="ts">
import type { Demand } from '../api'
import FormulaBox from '../components/deciding/FormulaBox.vue'
import { filled } from '../form'
const d = defineModel<Demand>({ required: true })
const put = (part: Partial<Demand>) => (d.value = filled({ ...d.value, ...part }))
</script>

<template>
  <div class="fields">
    <FormulaBox
      label="It is light when"
      placeholder="yard.daylight > 40"
      :model-value="d.daylight"
      @update:model-value="(v) => put({ daylight: v })" />
    <FormulaBox
      quantity
      label="Hours: a setting or a number"
      placeholder="yard.hours"
      :model-value="d.hours"
      @update:model-value="(v) => put({ hours: v })" />
  </div>
</template>
