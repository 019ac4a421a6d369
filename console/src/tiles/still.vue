<script lang="ts">
import type { TileKind } from '../tiles'

export const kind: TileKind = { title: 'What a camera sees', shows: ['camera'] }
</script>

<script setup lang="ts">
import StillView from '../components/StillView.vue'
import type { Shown } from '../tiles'

defineProps<{ shown: Shown; form?: boolean }>()
</script>

<template>
  <StillView v-if="!form" :key="shown.tile.of![0]!" class="fills" :device="shown.tile.of![0]!" />
</template>
