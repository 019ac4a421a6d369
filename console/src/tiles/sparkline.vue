<script lang="ts">
import { isNumber, type TileKind } from '../tiles'

export const kind: TileKind = { title: 'Value with its day', shows: ['signal'], small: true, day: true, fits: (x) => (isNumber(x) ? 1 : 0) }
</script>

<script setup lang="ts">
import { computed } from 'vue'
import Sparkline from '../components/Sparkline.vue'
import SignalValue from '../components/tiles/SignalValue.vue'
import { doubt } from '../fresh'
import { useHub } from '../hub'
import type { Shown } from '../tiles'

const props = defineProps<{ shown: Shown; form?: boolean }>()
const hub = useHub()
const signal = computed(() => hub.signals[props.shown.tile.of![0]!])
</script>

<template>
  <template v-if="signal && !form"
    ><SignalValue :signal="signal" /><Sparkline
      class="grows"
      :trace="shown.traces[signal.config.id]"
      :from="shown.from"
      :to="shown.to"
      :faded="!!doubt(hub, signal.config.id)"
  /></template>
</template>

<style scoped>
.grows {
  flex: 1 1 auto;
  min-height: 24px;
  height: auto;
}
</style>
