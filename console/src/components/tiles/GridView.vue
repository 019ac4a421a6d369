<script setup lang="ts">
// Tiles as they lie: where they were put on a wide screen, one after the other on a narrow one.
import { computed, onMounted, onUnmounted, ref } from 'vue'
import type { Dashboard, Tile } from '../../api'
import { columnsFor, gap, inOrder, rowHeight } from '../../dashboards'
import { spanOn } from '../../tiles'

const props = defineProps<{ dashboard: Dashboard; row?: number }>()
const box = ref<HTMLDivElement>()
const columns = ref(columnsFor(window.innerWidth))
let sizes: ResizeObserver | undefined
onMounted(() => {
  sizes = new ResizeObserver(([e]) => (columns.value = columnsFor(e!.contentRect.width)))
  sizes.observe(box.value!)
})
onUnmounted(() => sizes?.disconnect())
const wide = computed(() => columns.value === 12)
const style = (t: Tile) => {
  if (wide.value) return { gridColumn: `${t.x + 1} / span ${t.w}`, gridRow: `${t.y + 1} / span ${t.h}` }
  const s = spanOn(t, columns.value)
  return { gridColumn: `span ${s.w}`, gridRow: `span ${s.h}` }
}
// In both the order of reading is that of the page.
const tiles = computed(() => (wide.value ? [...props.dashboard.tiles].sort((a, b) => a.y - b.y || a.x - b.x) : inOrder(props.dashboard)))
</script>

<template>
  <div
    ref="box"
    class="grid"
    :class="{ wide }"
    :style="{
      gridTemplateColumns: `repeat(${columns}, minmax(0, 1fr))`,
      gridAutoRows: `${(wide && row) || rowHeight}px`,
      gap: `${gap}px`,
    }">
    <div v-for="t in tiles" :key="t.id" :style="style(t)"><slot :tile="t" /></div>
  </div>
</template>

<style scoped>
.grid {
  display: grid;
  grid-auto-flow: row dense;
}
.grid > div {
  min-width: 0;
  min-height: 0;
}
</style>
