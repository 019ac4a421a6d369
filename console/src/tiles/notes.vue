<script lang="ts">
import type { TileKind } from '../tiles'

export const kind: TileKind = {
  title: 'Notes',
  shows: ['place'],
  size: { w: 4, h: 3 },
  more: { of: ['place'], called: 'Of one place alone', one: true },
}
</script>

<script setup lang="ts">
import { useIntervalFn } from '@vueuse/core'
import { computed, ref } from 'vue'
import { api, ask, type Remark } from '../api'
import { dayText } from '../format'
import { useHub } from '../hub'
import type { Shown } from '../tiles'

const props = defineProps<{ shown: Shown; form?: boolean }>()
const hub = useHub()
const notes = ref<Remark[]>([])
const failed = ref(false)
async function load() {
  try {
    notes.value = await ask(api.GET('/notes', { params: { query: { from: new Date(Date.now() - 60 * 86_400_000).toISOString() } } }))
    failed.value = false
  } catch {
    failed.value = true
  }
}
const place = computed(() => props.shown.tile.of?.[0])
const mine = computed(() =>
  notes.value
    .filter((n) => !place.value || n.object === place.value || hub.devices[n.object.split('.')[0]!]?.config.place === place.value)
    .slice(0, 20),
)
if (!props.form) {
  useIntervalFn(load, 60_000, { immediateCallback: true })
}
</script>

<template>
  <template v-if="form" />
  <p v-else-if="failed" class="soft small-text mb-0">Notes are for the household.</p>
  <p v-else-if="!mine.length" class="soft small-text mb-0">No notes of the last two months. One is written by a click in a chart.</p>
  <ul v-else>
    <li v-for="n in mine" :key="n.id">
      <span class="soft small-text">{{ dayText(Date.parse(n.at), hub.zone) }}</span> {{ n.text }}
    </li>
  </ul>
</template>

<style scoped>
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li + li {
  border-top: 1px solid var(--line);
}
li {
  padding: 4px 0;
  overflow-wrap: anywhere;
}
</style>
