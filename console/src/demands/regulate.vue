<script lang="ts">
import type { DemandKind } from '../demands'

export const kind: DemandKind = {
  title: 'regulated (PI)',
  place: 8,
  suits: (c) => c.config.kind === 'level',
  levels: true,
  fresh: () => ({ of: '', target: '', gain: 10, integral_ms: 120_000 }),
}
</script>

<script setup lang="ts">
import type { Demand } from '../api'
import FormulaBox from '../components/deciding/FormulaBox.vue'
import SpanField from '../components/deciding/SpanField.vue'
import { filled } from '../form'
const d = defineModel<Demand>({ required: true })
const put = (part: Partial<Demand>) => (d.value = filled({ ...d.value, ...part }))
</script>

<template>
  <div class="fields">
    <FormulaBox quantity label="What is regulated" :model-value="d.of" @update:model-value="(v) => put({ of: v })" />
    <FormulaBox quantity label="Setpoint" :model-value="d.target" @update:model-value="(v) => put({ target: v })" />
    <label class="short"
      ><span class="soft small-text">Gain, % per unit</span
      ><input
        class="form-control form-control-sm"
        type="number"
        min="0"
        step="any"
        :value="d.gain"
        @input="put({ gain: Number(($event.target as HTMLInputElement).value) })"
    /></label>
    <SpanField label="Integral time" :model-value="d.integral_ms" @update:model-value="(v) => put({ integral_ms: v })" />
    <label class="check"
      ><input
        type="checkbox"
        class="form-check-input"
        :checked="d.cools"
        @change="put({ cools: ($event.target as HTMLInputElement).checked || undefined })" />
      more of it makes less of that</label
    >
  </div>
</template>

<style scoped>
.check {
  display: flex !important;
  gap: 8px;
  align-items: center;
  flex: 1 1 240px !important;
}
</style>
