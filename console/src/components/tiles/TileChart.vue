<script setup lang="ts">
import { computed, onMounted, onUnmounted, ref } from 'vue'
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
  () => ({ series: series.value, from: hub.now - span.value, to: hub.now, live: true, marks: !props.wall, points: 500 }),
  () => [series.value.join(), span.value].join('|'),
)
// The panes share the height of the tile; titles, strips and the axis have theirs.
const box = ref<HTMLDivElement>()
const height = ref(0)
let sizes: ResizeObserver | undefined
onMounted(() => {
  sizes = new ResizeObserver(([e]) => (height.value = Math.floor(e!.contentRect.height)))
  sizes.observe(box.value!)
})
onUnmounted(() => sizes?.disconnect())
const panes = computed(() => new Set(histories.value.filter((h) => h.kind === 'number').map((h) => h.unit)).size)
const strips = computed(() => histories.value.filter((h) => h.kind !== 'number').length)
const tall = computed(() => Math.max(70, Math.floor((height.value - 30 - strips.value * 42) / Math.max(1, panes.value)) - 36))
const open = () => void router.push({ name: 'charts', query: { s: series.value.join(',') } })
</script>

<template>
  <div ref="box" class="chart-box">
    <p v-if="failed" class="warn-text small-text" role="alert">{{ failed }}</p>
    <p v-else-if="loading && !histories.length" class="soft small-text">Drawing …</p>
    <ChartSheet
      v-else-if="height"
      :key="tall"
      :space="tall"
      :histories="histories"
      :marks="marks"
      :setpoints="setpoints"
      :from="tick - span"
      :to="tick"
      :cursor="null"
      @pick="open" />
  </div>
</template>

<style scoped>
.chart-box {
  flex: 1 1 auto;
  min-height: 0;
  overflow: hidden;
}
</style>
