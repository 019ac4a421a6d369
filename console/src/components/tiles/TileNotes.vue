<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { api, ask, type Remark, type Tile } from '../../api'
import { dayText } from '../../format'
import { useHub } from '../../hub'

const props = defineProps<{ tile: Tile }>()
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
const place = computed(() => props.tile.of?.[0])
const mine = computed(() => notes.value.filter((n) => !place.value || n.object === place.value || hub.devices[n.object.split('.')[0]!]?.place === place.value).slice(0, 20))
let timer = 0
onMounted(() => { void load(); timer = window.setInterval(load, 60_000) })
onUnmounted(() => window.clearInterval(timer))
</script>

<template>
  <p v-if="failed" class="soft small-text mb-0">Notes are for the household.</p>
  <p v-else-if="!mine.length" class="soft small-text mb-0">No notes of the last two months. One is written by a click in a chart.</p>
  <ul v-else><li v-for="n in mine" :key="n.id"><span class="soft small-text">{{ dayText(Date.parse(n.at), hub.zone) }}</span> {{ n.text }}</li></ul>
</template>

<style scoped>
ul { list-style: none; margin: 0; padding: 0; }
li + li { border-top: 1px solid var(--line); }
li { padding: 4px 0; overflow-wrap: anywhere; }
</style>
