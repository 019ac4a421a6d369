<script lang="ts">
import type { DemandKind } from '../demands'

export const kind: DemandKind = {
  title: 'by a formula',
  place: 5,
  fresh: () => ({ when: '' }),
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
    <FormulaBox label="On when" :model-value="d.when" @update:model-value="(v) => put({ when: v })" />
    <FormulaBox label="Until (empty: when that is no longer so)" :model-value="d.until" @update:model-value="(v) => put({ until: v })" />
    <SpanField label="Must hold for" :model-value="d.after_ms" @update:model-value="(v) => put({ after_ms: v })" />
  </div>
</template>
