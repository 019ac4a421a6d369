<script lang="ts">
import type { TileKind } from '../tiles'

export const kind: TileKind = { title: 'Text', size: { w: 4, h: 1 }, opens: true, untitled: true }
</script>

<script setup lang="ts">
import type { Tile } from '../api'
import type { Shown } from '../tiles'

defineProps<{ shown: Shown; form?: boolean }>()
const emit = defineEmits<{ change: [by: Partial<Tile>] }>()
</script>

<template>
  <p v-if="!form" class="text mb-0">{{ shown.tile.text || 'Write something here.' }}</p>
  <label v-else
    ><span class="soft small-text">Text</span
    ><textarea
      class="form-control form-control-sm"
      rows="5"
      maxlength="4000"
      :value="shown.tile.text ?? ''"
      @input="emit('change', { text: ($event.target as HTMLTextAreaElement).value })"></textarea>
  </label>
</template>

<style scoped>
.text {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
