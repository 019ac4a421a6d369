<script lang="ts">
import { isNumber, type TileKind } from '../tiles'

export const kind: TileKind = {
  title: 'Chart',
  shows: ['signal', 'control'],
  fits: (x) => (isNumber(x) ? 4 : 0),
  tall: () => [3, 4],
  more: { of: ['number', 'signal', 'control'], called: 'One more' },
}
</script>

<script setup lang="ts">
import { defineAsyncComponent } from 'vue'
import type { Tile } from '../api'
import type { Shown } from '../tiles'

const TileChart = defineAsyncComponent(() => import('../components/tiles/TileChart.vue')) // the plots are loaded when one is needed
defineProps<{ shown: Shown; form?: boolean }>()
const emit = defineEmits<{ change: [by: Partial<Tile>] }>()
const spans = [
  ['1 h', 3600_000],
  ['6 h', 6 * 3600_000],
  ['a day', 86_400_000],
  ['3 days', 3 * 86_400_000],
  ['a week', 7 * 86_400_000],
  ['a month', 30 * 86_400_000],
  ['a year', 365 * 86_400_000],
] as const
</script>

<template>
  <TileChart v-if="!form" :tile="shown.tile" :wall="shown.wall" />
  <label v-else
    ><span class="soft small-text">It shows the last</span
    ><select
      class="form-select form-select-sm"
      :value="shown.tile.span_ms || 86400000"
      @change="emit('change', { span_ms: Number(($event.target as HTMLSelectElement).value) })">
      <option v-for="[name, ms] in spans" :key="ms" :value="ms">{{ name }}</option>
    </select></label
  >
</template>
