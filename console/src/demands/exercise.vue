<script lang="ts">
import type { Moment } from '../api'
import type { DemandKind } from '../demands'

const noon: Moment = { base: 'clock', minutes: 720 }

export const kind: DemandKind = {
  title: 'a short run now and then',
  place: 6,
  fresh: () => ({ every_ms: 7 * 86400_000, for_ms: 30_000, at: noon }),
}
</script>

<script setup lang="ts">
import type { Demand } from '../api'
import MomentFields from '../components/deciding/MomentFields.vue'
import SpanField from '../components/deciding/SpanField.vue'
import { filled } from '../form'
const d = defineModel<Demand>({ required: true })
const put = (part: Partial<Demand>) => (d.value = filled({ ...d.value, ...part }))
</script>

<template>
  <div class="fields">
    <SpanField label="Where it did not run for" :model-value="d.every_ms" @update:model-value="(v) => put({ every_ms: v })" />
    <SpanField label="For" :model-value="d.for_ms" @update:model-value="(v) => put({ for_ms: v })" />
    <MomentFields label="At" :model-value="d.at ?? noon" @update:model-value="(at) => put({ at })" />
  </div>
</template>
