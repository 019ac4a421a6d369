<script lang="ts">
import { isNumber, isOnOff, type TileKind } from '../tiles'

export const kind: TileKind = {
  title: 'Value',
  shows: ['signal'],
  small: true,
  fits: (x) => (isNumber(x) || isOnOff(x) ? 2 : x.kind === 'signal' ? 1 : 0),
}
</script>

<script setup lang="ts">
import { computed } from 'vue'
import SignalValue from '../components/tiles/SignalValue.vue'
import { useHub } from '../hub'
import type { Shown } from '../tiles'

const props = defineProps<{ shown: Shown; form?: boolean }>()
const signal = computed(() => useHub().signals[props.shown.tile.of![0]!])
</script>

<template>
  <SignalValue v-if="signal && !form" :signal="signal" />
</template>
