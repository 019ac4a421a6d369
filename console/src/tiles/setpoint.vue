<script lang="ts">
import type { TileKind } from '../tiles'

export const kind: TileKind = { title: 'Setpoint', shows: ['setting'] }
</script>

<script setup lang="ts">
import { computed } from 'vue'
import Stepper from '../components/Stepper.vue'
import { useHub } from '../hub'
import type { Shown } from '../tiles'

const props = defineProps<{ shown: Shown; form?: boolean }>()
const setting = computed(() => useHub().settings[props.shown.tile.of![0]!])
</script>

<template>
  <Stepper v-if="setting && !form" :setting="setting" />
</template>
