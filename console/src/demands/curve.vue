<script lang="ts">
import type { DemandKind } from '../demands'

export const kind: DemandKind = {
  title: 'by a curve',
  place: 7,
  suits: (c) => c.config.kind === 'level',
  levels: true,
  fresh: () => ({
    of: '',
    points: [
      [20, 0],
      [30, 100],
    ],
  }),
}
</script>

<script setup lang="ts">
import { computed } from 'vue'
import type { Demand } from '../api'
import FormulaBox from '../components/deciding/FormulaBox.vue'
import { filled } from '../form'
const d = defineModel<Demand>({ required: true })
const put = (part: Partial<Demand>) => (d.value = filled({ ...d.value, ...part }))
const points = computed({
  get: () => (d.value.points ?? []).map((p) => p.join(':')).join(', '),
  set: (text: string) =>
    put({
      points: text
        .split(',')
        .map((p) => p.split(':').map(Number))
        .filter((p) => p.length === 2 && p.every((x) => !Number.isNaN(x))),
    }),
})
</script>

<template>
  <div class="fields">
    <FormulaBox quantity label="Of" placeholder="kiln.chamber" :model-value="d.of" @update:model-value="(v) => put({ of: v })" />
    <label
      ><span class="soft small-text">Points, quantity:level</span
      ><input v-model.lazy="points" class="form-control form-control-sm mono" placeholder="20:0, 30:50, 40:100"
    /></label>
  </div>
</template>
