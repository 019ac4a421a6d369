<script setup lang="ts">
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import type { Tile } from '../../api'
import { useHistories } from '../../histories'
import { useHub } from '../../hub'
import ChartSheet from '../ChartSheet.vue'

const props = defineProps<{ tile: Tile; wall?: boolean }>()
const hub = useHub()
const router = useRouter()
const span = computed(() => props.tile.span_ms || 86_400_000)
const series = computed(() => (props.tile.of ?? []).map((id) => (hub.controls[id] ? id + '.is' : id)))
const tick = computed(() => Math.floor(hub.now / 15_000) * 15_000)
const { histories, marks, setpoints, failed, loading } = useHistories(
  () => ({ series: series.value, from: hub.now - span.value, to: hub.now, live: true, marks: !props.wall, points: 500 }), () => [series.value.join(), span.value].join('|'))
const open = () => void router.push({ name: 'charts', query: { s: series.value.join(',') } })
</script>

<template>
  <p v-if="failed" class="warn-text small-text" role="alert">{{ failed }}</p>
  <p v-else-if="loading && !histories.length" class="soft small-text">Drawing …</p>
  <ChartSheet v-else :histories="histories" :marks="marks" :setpoints="setpoints" :from="tick - span" :to="tick" :cursor="null" @pick="open" />
</template>
