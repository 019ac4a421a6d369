<script lang="ts">
import type { TileKind } from '../tiles'

export const kind: TileKind = {
  title: 'What needs attention',
  shows: ['place'],
  size: { w: 6, h: 2 },
  more: { of: ['place'], called: 'Of one place alone' },
}
</script>

<script setup lang="ts">
import Attention from '../components/Attention.vue'
import type { Shown } from '../tiles'

defineProps<{ shown: Shown; form?: boolean }>()
</script>

<template>
  <Attention v-if="!form" tile :places="shown.tile.of" />
</template>
