<script lang="ts">
import type { TileKind } from '../tiles'

export const kind: TileKind = { title: 'Preset', shows: ['preset'], small: true, untitled: true }
</script>

<script setup lang="ts">
import PresetBar from '../components/PresetBar.vue'
import type { Shown } from '../tiles'

defineProps<{ shown: Shown; form?: boolean }>()
</script>

<template>
  <PresetBar v-if="!form" :only="shown.tile.of![0]!" />
</template>
