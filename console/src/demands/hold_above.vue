<script lang="ts">
import type { DemandKind } from '../demands'

export const kind: DemandKind = {
  title: 'keep above a setpoint (heat, humidify)',
  place: 1,
  fresh: (was) => ({ of: was.of ?? '', target: was.target ?? '', band: was.band ?? 0.5 }),
}
</script>

<script setup lang="ts">
import type { Demand } from '../api'
import HoldForm from '../components/deciding/HoldForm.vue'

const d = defineModel<Demand>({ required: true })
</script>

<template>
  <HoldForm v-model="d" />
</template>
