<script setup lang="ts">
// Tiles to drag, to resize at their corner, and to move by keys: arrows move, with Shift they resize.
import { GridStack, type GridItemHTMLElement } from 'gridstack'
import 'gridstack/dist/gridstack.min.css'
import { nextTick, onMounted, onUnmounted, ref, watch } from 'vue'
import type { Tile } from '../../api'
import { about, gap, rowHeight } from '../../dashboards'
import { kindName } from '../../tiles'
import Icon from '../Icon.vue'

const props = defineProps<{ tiles: Tile[]; chosen: string }>()
const emit = defineEmits<{
  moved: [list: Pick<Tile, 'id' | 'x' | 'y' | 'w' | 'h'>[]]
  by: [id: string, dx: number, dy: number, dw: number, dh: number]
  choose: [id: string]
  open: [id: string]
  remove: [id: string]
  twice: [id: string]
}>()
const box = ref<HTMLDivElement>()
let grid: GridStack | undefined
let ours = false // what changes because the draft did is not told back
const elements = new Map<string, GridItemHTMLElement>()

onMounted(() => {
  grid =
    GridStack.init(
      {
        column: 12,
        cellHeight: rowHeight + gap,
        margin: gap / 2,
        mode: 'float',
        animate: !matchMedia('(prefers-reduced-motion: reduce)').matches,
        handle: '.grip',
        resizable: { handles: 'se' },
      },
      box.value!,
    ) ?? undefined
  grid?.on('change', () => {
    if (ours) return
    emit(
      'moved',
      grid!.engine.nodes.map((n) => ({ id: String(n.id), x: n.x ?? 0, y: n.y ?? 0, w: n.w ?? 1, h: n.h ?? 1 })),
    )
  })
})
onUnmounted(() => grid?.destroy(false))

watch(
  () => props.tiles,
  async (list) => {
    ours = true
    for (const n of [...(grid?.engine.nodes ?? [])]) if (!list.some((t) => t.id === n.id)) grid!.removeWidget(n.el!, false)
    await nextTick()
    grid?.batchUpdate()
    for (const t of list) {
      const e = elements.get(t.id)
      if (!e || !grid) continue
      if (!e.gridstackNode) grid.makeWidget(e, { id: t.id, x: t.x, y: t.y, w: t.w, h: t.h })
      else if (e.gridstackNode.x !== t.x || e.gridstackNode.y !== t.y || e.gridstackNode.w !== t.w || e.gridstackNode.h !== t.h)
        grid.update(e, { x: t.x, y: t.y, w: t.w, h: t.h })
    }
    grid?.batchUpdate(false)
    ours = false
  },
)

function keys(e: KeyboardEvent, t: Tile) {
  if (e.target !== e.currentTarget) return
  const by = ({ ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] } as Record<string, [number, number]>)[e.key]
  if (by) emit('by', t.id, e.shiftKey ? 0 : by[0], e.shiftKey ? 0 : by[1], e.shiftKey ? by[0] : 0, e.shiftKey ? by[1] : 0)
  else if (e.key === 'Enter') emit('open', t.id)
  else if (e.key === 'Delete' || e.key === 'Backspace') emit('remove', t.id)
  else if (e.key === 'd') emit('twice', t.id)
  else return
  e.preventDefault()
}
const named = (t: Tile) => t.name || (t.of?.length ? about(t.of[0]!).name : kindName(t.kind))
</script>

<template>
  <div ref="box" class="grid-stack editor">
    <div
      v-for="t in tiles"
      :key="t.id"
      :ref="
        (e) => {
          if (e) elements.set(t.id, e as GridItemHTMLElement)
          else elements.delete(t.id)
        }
      "
      class="grid-stack-item"
      :class="{ chosen: chosen === t.id }"
      :gs-id="t.id"
      :gs-x="t.x"
      :gs-y="t.y"
      :gs-w="t.w"
      :gs-h="t.h"
      tabindex="0"
      role="group"
      :aria-label="`${named(t)}: ${kindName(t.kind)}, column ${t.x + 1}, row ${t.y + 1}, ${t.w} by ${t.h}`"
      :data-edit="t.id"
      @focus="emit('choose', t.id)"
      @keydown="keys($event, t)">
      <div class="grid-stack-item-content">
        <slot :tile="t" />
        <div class="tools">
          <span class="grip" title="Drag" aria-hidden="true">⠿</span>
          <button type="button" :aria-label="`Settings of ${named(t)}`" title="Settings (Enter)" @click="emit('open', t.id)">
            <Icon name="gear" :size="15" />
          </button>
          <button type="button" :aria-label="`${named(t)} once more`" title="Once more (d)" @click="emit('twice', t.id)">
            <Icon name="copy" :size="15" />
          </button>
          <button type="button" :aria-label="`Take ${named(t)} away`" title="Take away (Delete)" @click="emit('remove', t.id)">
            <Icon name="x" :size="15" />
          </button>
        </div>
      </div>
    </div>
  </div>
</template>

<style scoped>
.editor {
  margin: -6px;
  background-image: radial-gradient(var(--line) 1px, transparent 1px);
  background-size: calc(100% / 12) 96px;
  min-height: 288px;
}
.grid-stack-item-content {
  overflow: visible !important;
}
.grid-stack-item :deep(.tile .body) {
  pointer-events: none;
}
.grid-stack-item :deep(.tile.picture .body) {
  pointer-events: auto;
}
.tools {
  position: absolute;
  top: -1px;
  right: -1px;
  display: flex;
  background: var(--sheet);
  border: 1px solid var(--line);
  border-radius: 0 12px 0 10px;
  overflow: hidden;
  z-index: 3;
}
.tools > * {
  border: 0;
  background: none;
  color: var(--soft);
  width: 32px;
  height: 32px;
  display: grid;
  place-items: center;
  padding: 0;
}
.tools button:hover {
  color: var(--ink);
}
.grip {
  cursor: grab;
  touch-action: none;
}
.grid-stack-item.chosen :deep(.tile) {
  border-color: var(--data);
  box-shadow: 0 0 0 1px var(--data);
}
.grid-stack-item:focus-visible {
  outline: none;
}
.grid-stack-item:focus-visible :deep(.tile) {
  outline: 2px solid var(--data);
  outline-offset: 2px;
}
</style>
