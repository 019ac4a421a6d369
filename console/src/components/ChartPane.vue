<script setup lang="ts">
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import { onMounted, onUnmounted, ref, shallowRef, watch } from 'vue'
import type { Remark } from '../api'
import type { Pane } from '../chart'
import { clockText } from '../format'
import { painted } from '../theme'

const props = defineProps<{ pane: Pane; from: number; to: number; zone: string; colours: Record<string, { colour: string; dash?: number[]; ghost?: boolean }>; axis: boolean; notes: Remark[] }>()
const emit = defineEmits<{ zoom: [from: number, to: number]; cursor: [at: number | null] }>()
const box = ref<HTMLDivElement>()
const plot = shallowRef<uPlot>()
let sizes: ResizeObserver | undefined

const css = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()
const colour = (name: string) => (name.startsWith('--') ? css(name) : name)
const hour = 3600_000

function ticks(_u: uPlot, splits: number[]): string[] {
  const span = props.to - props.from
  let day = ''
  return splits.map((t) => {
    const d = clockText(t, props.zone, { weekday: 'short', day: '2-digit' })
    if (span > 3 * 24 * hour) return clockText(t, props.zone, { hour: '2-digit', minute: '2-digit' }) === '00:00' || span > 20 * 24 * hour ? clockText(t, props.zone, { day: '2-digit', month: 'short' }) : d
    const first = d !== day && day !== ''
    day = d
    return first && clockText(t, props.zone) === '00:00' ? d : clockText(t, props.zone, span < 5 * 60_000 ? { hour: '2-digit', minute: '2-digit', second: '2-digit' } : { hour: '2-digit', minute: '2-digit' })
  })
}

// Split at whole hours and days of the hub's own clock.
function splits(u: uPlot): number[] {
  const want = Math.max(3, Math.floor(u.width / 90))
  const span = props.to - props.from
  const steps = [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 10800, 21600, 43200, 86400, 2 * 86400, 7 * 86400, 14 * 86400, 30 * 86400].map((s) => s * 1000)
  const step = steps.find((s) => span / s <= want) ?? 60 * 86400_000
  const off = offset(props.from)
  const out = []
  for (let t = Math.ceil((props.from + off) / step) * step - off; t <= props.to; t += step) out.push(t - (offset(t) - off))
  return out
}

function offset(t: number): number {
  const p = new Intl.DateTimeFormat('en-US', { timeZone: props.zone || 'UTC', hourCycle: 'h23', year: 'numeric', month: 'numeric', day: 'numeric', hour: 'numeric', minute: 'numeric', second: 'numeric' }).formatToParts(t)
  const n = (type: string) => Number(p.find((x) => x.type === type)?.value)
  return Date.UTC(n('year'), n('month') - 1, n('day'), n('hour'), n('minute'), n('second')) - Math.floor(t / 1000) * 1000
}

function options(width: number): uPlot.Options {
  const series: uPlot.Series[] = [{}]
  const bands: uPlot.Band[] = []
  props.pane.histories.forEach((h, i) => {
    const look = props.colours[h.series] ?? { colour: '--s1' }
    const stroke = () => colour(look.colour)
    series.push({ label: h.name, stroke, width: 1.5, alpha: look.ghost ? 0.45 : 1, dash: look.dash, points: { show: h.t.length < 60, size: 5, fill: () => css('--sheet') } })
    if (props.pane.banded[i]) {
      const k = series.length
      const quiet = { stroke: 'transparent', width: 0, points: { show: false } }
      series.push({ ...quiet }, { ...quiet })
      if (!look.ghost) bands.push({ series: [k + 1, k], fill: () => colour(look.colour) + '2e' })
    }
  })
  const axis = { stroke: () => css('--soft'), font: '12px "Figtree Variable", sans-serif', grid: { stroke: () => css('--line'), width: 1 }, ticks: { show: false } }
  return {
    width, height: (width < 520 ? 150 : 198) + (props.axis ? 28 : 0), ms: 1, series, bands, legend: { show: false },
    scales: { x: { time: false, range: () => [props.from, props.to] } },
    axes: [
      { ...axis, splits, values: ticks, grid: { ...axis.grid, dash: [2, 5] }, show: true, size: props.axis ? 30 : 6, ...(props.axis ? {} : { values: () => [] }) },
      { ...axis, size: 50, values: (_u, v) => v.map((x) => String(+x.toFixed(6)).replace('-', '−')) },
    ],
    cursor: { sync: { key: 'charts', setSeries: false }, drag: { x: true, y: false, setScale: false }, points: { size: 7 }, y: false },
    padding: [8, 14, 0, 0],
    hooks: {
      setSelect: [
        (u) => {
          if (u.select.width < 6) return
          emit('zoom', u.posToVal(u.select.left, 'x'), u.posToVal(u.select.left + u.select.width, 'x'))
          u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false)
        },
      ],
      draw: [drawNotes],
      setCursor: [(u) => emit('cursor', (u.cursor.left ?? -1) >= 0 ? u.posToVal(u.cursor.left!, 'x') : null)],
    },
  }
}

// Notes are lines across all panes; a stretch is shaded. Their texts stand in the list below.
function drawNotes(u: uPlot) {
  const { left, top, width, height } = u.bbox
  u.ctx.save()
  u.ctx.beginPath()
  u.ctx.rect(left, top, width, height)
  u.ctx.clip()
  props.notes.forEach((n, i) => {
    const x = u.valToPos(Date.parse(n.at), 'x', true)
    if (n.until) {
      u.ctx.fillStyle = css('--soft') + '22'
      u.ctx.fillRect(x, top, u.valToPos(Date.parse(n.until), 'x', true) - x, height)
    }
    u.ctx.strokeStyle = u.ctx.fillStyle = css('--ink')
    u.ctx.lineWidth = devicePixelRatio
    u.ctx.setLineDash([4 * devicePixelRatio, 3 * devicePixelRatio])
    u.ctx.beginPath()
    u.ctx.moveTo(x, top)
    u.ctx.lineTo(x, top + height)
    u.ctx.stroke()
    u.ctx.font = `600 ${11 * devicePixelRatio}px "Figtree Variable", sans-serif`
    u.ctx.fillText(String(props.notes.length - i), x + 4 * devicePixelRatio, top + 13 * devicePixelRatio)
  })
  u.ctx.restore()
}

function draw() {
  plot.value?.destroy()
  if (!box.value || !box.value.clientWidth) return
  plot.value = new uPlot(options(box.value.clientWidth), props.pane.data, box.value)
}

// Two fingers zoom round their middle, one finger drags the time.
let touch: { a: number; b: number; from: number; to: number } | null = null
function fingers(e: TouchEvent) {
  const over = plot.value?.over.getBoundingClientRect()
  if (!over) return null
  const x = [...e.touches].map((t) => (t.clientX - over.left) / over.width)
  return x.length === 2 ? { a: Math.min(x[0]!, x[1]!), b: Math.max(x[0]!, x[1]!) } : x.length === 1 ? { a: x[0]!, b: NaN } : null
}
let shown: [number, number] | null = null
function touchStart(e: TouchEvent) {
  const f = fingers(e)
  touch = f ? { ...f, from: props.from, to: props.to } : null
  shown = null
}
function touchMove(e: TouchEvent) {
  const f = fingers(e)
  if (!f || !touch || Number.isNaN(f.b) !== Number.isNaN(touch.b)) return
  const span = touch.to - touch.from
  if (Number.isNaN(f.b)) return // one finger scrolls the page and moves the cursor
  e.preventDefault()
  const factor = (touch.b - touch.a) / Math.max(0.02, f.b - f.a)
  const newSpan = Math.max(10_000, span * factor)
  const middle = touch.from + span * ((touch.a + touch.b) / 2)
  const from = middle - newSpan * ((f.a + f.b) / 2)
  shown = [from, from + newSpan]
  plot.value?.setScale('x', { min: from, max: from + newSpan })
}
function touchEnd() {
  if (shown) emit('zoom', ...shown)
  touch = shown = null
}
function wheel(e: WheelEvent) {
  if (!e.ctrlKey && !e.metaKey && Math.abs(e.deltaX) < Math.abs(e.deltaY) && !e.shiftKey) return // plain scrolling scrolls the page
  e.preventDefault()
  const over = plot.value?.over.getBoundingClientRect()
  if (!over) return
  const span = props.to - props.from
  if (e.ctrlKey || e.metaKey) {
    const at = props.from + span * ((e.clientX - over.left) / over.width)
    const f = Math.exp(e.deltaY * 0.004)
    emit('zoom', at - (at - props.from) * f, at + (props.to - at) * f)
  } else {
    const by = ((e.deltaX || e.deltaY) / over.width) * span
    emit('zoom', props.from + by, props.to + by)
  }
}

onMounted(() => {
  draw()
  sizes = new ResizeObserver(() => plot.value?.setSize({ width: box.value!.clientWidth, height: plot.value.height }))
  sizes.observe(box.value!)
  box.value!.addEventListener('touchmove', touchMove, { passive: false })
  box.value!.addEventListener('wheel', wheel, { passive: false })
})
onUnmounted(() => {
  sizes?.disconnect()
  plot.value?.destroy()
})
const shape = () => props.pane.histories.map((h) => h.series + h.step_ms + (props.colours[h.series]?.ghost ?? '')).join() + props.pane.banded.join() + props.axis
let shapeNow = shape()
watch(() => [props.pane.data, props.from, props.to], () => {
  if (shape() !== shapeNow) {
    shapeNow = shape()
    draw()
  } else plot.value?.setData(props.pane.data)
})
watch(painted, () => plot.value?.redraw())
watch(() => props.notes, () => plot.value?.redraw(false))
</script>

<template>
  <div ref="box" class="pane" @touchstart.passive="touchStart" @touchend="touchEnd" @touchcancel="touchEnd"></div>
</template>

<style scoped>
.pane { width: 100%; min-height: 150px; touch-action: pan-y; }
.pane :deep(.u-select) { background: color-mix(in srgb, var(--data) 18%, transparent); }
.pane :deep(.u-cursor-x) { border-right: 1px solid var(--soft); }
</style>
