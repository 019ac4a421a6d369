<script setup lang="ts">
// What a tile shows. What it is about may be gone or not open to whoever looks; then it says so, and the rest goes on.
import { computed } from 'vue'
import { about } from '../../dashboards'
import { tileKinds, type Shown } from '../../tiles'

const props = defineProps<{ shown: Shown }>()
const emit = defineEmits<{ pin: [id: string, x: number, y: number]; pick: [id: string]; elements: [ids: { id: string; what: string }[]] }>()
const first = computed(() => props.shown.tile.of?.[0] ?? '')
const thing = computed(() => about(first.value))
const module = computed(() => tileKinds[props.shown.tile.kind])
const fits = computed(() => (first.value === '' ? !!module.value?.kind.size : !!module.value?.kind.shows?.includes(thing.value.kind)))
</script>

<template>
  <p v-if="first !== '' && thing.kind === 'gone'" class="soft small-text mb-0">
    There is no {{ first }} here any more, or it is not open to you.
  </p>
  <component
    :is="module.default"
    v-else-if="module && fits"
    :shown="shown"
    @pin="(id: string, x: number, y: number) => emit('pin', id, x, y)"
    @pick="emit('pick', $event)"
    @elements="emit('elements', $event)" />
  <p v-else class="soft small-text mb-0">This tile does not fit what it is about any more; choose another kind for it.</p>
</template>
