<script lang="ts">
import type { TileKind } from '../tiles'

export const kind: TileKind = { title: 'Clock', size: { w: 3, h: 2 }, small: true, untitled: true }
</script>

<script setup lang="ts">
import { clockText } from '../format'
import { useHub } from '../hub'
import type { Shown } from '../tiles'

defineProps<{ shown: Shown; form?: boolean }>()
const hub = useHub()
</script>

<template>
  <div v-if="!form" class="clock">
    <time>{{ clockText(hub.now, hub.zone) }}</time><span class="soft">{{
      clockText(hub.now, hub.zone, { weekday: 'long', day: 'numeric', month: 'long' })
    }}</span>
  </div>
</template>

<style scoped>
.clock {
  display: grid;
}
.clock time {
  font-size: calc(var(--big) * 1.5);
  font-weight: 650;
  line-height: 1.1;
}
</style>
