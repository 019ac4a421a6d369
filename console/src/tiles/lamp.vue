<script lang="ts">
import { isOnOff, type TileKind } from '../tiles'

export const kind: TileKind = {
  title: 'Lamp',
  shows: ['signal', 'control'],
  small: true,
  fits: (x) => (isOnOff(x) ? 1 : x.kind === 'control' ? 2 : 0),
}
</script>

<script setup lang="ts">
import TileLamp from '../components/tiles/TileLamp.vue'
import type { Shown } from '../tiles'

defineProps<{ shown: Shown; form?: boolean }>()
</script>

<template>
  <TileLamp v-if="!form" :of="shown.tile.of![0]!" />
</template>
