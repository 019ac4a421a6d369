<script lang="ts">
import type { TileKind } from '../tiles'

export const kind: TileKind = { title: 'Picture or drawing', size: { w: 6, h: 5 }, opens: true, untitled: true }
</script>

<script setup lang="ts">
import type { Tile } from '../api'
import PictureForm from '../components/tiles/PictureForm.vue'
import TilePicture from '../components/tiles/TilePicture.vue'
import type { Formed, Shown } from '../tiles'

defineProps<{ shown: Shown; form?: boolean; formed?: Formed }>()
const emit = defineEmits<{
  change: [by: Partial<Tile>]
  pin: [id: string, x: number, y: number]
  pick: [id: string]
  elements: [ids: { id: string; what: string }[]]
}>()
</script>

<template>
  <TilePicture
    v-if="!form"
    :tile="shown.tile"
    :traces="shown.traces"
    :from="shown.from"
    :to="shown.to"
    :formulas="shown.formulas"
    :editing="shown.editing"
    :picked="shown.picked"
    @pin="(id, x, y) => emit('pin', id, x, y)"
    @pick="emit('pick', $event)"
    @elements="emit('elements', $event)" />
  <PictureForm
    v-else
    :tile="shown.tile"
    :elements="formed!.elements"
    :picked="formed!.picked"
    @change="emit('change', $event)"
    @pick="emit('pick', $event)" />
</template>
