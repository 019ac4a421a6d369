<script lang="ts">
export type Look = { colour: string; dash?: number[]; ghost?: boolean; thin?: boolean }
</script>

<script setup lang="ts">
import uPlot from 'uplot'
import 'uplot/dist/uPlot.min.css'
import { onMounted, onUnmounted, ref, shallowRef, watch } from 'vue'
import type { Mark, Remark } from '../api'
import type { Pane } from '../chart'
import { clockText } from '../format'
import { painted } from '../theme'

const props = defineProps<{
  pane: Pane
  from: number
  to: number
  zone: string
  colours: Record<string, Look>
  axis: boolean
  notes: Remark[]
  marks: Mark[]
  space?: number
}>()
const emit = defineEmits<{ zoom: [from: number, to: number, rests: boolean]; cursor: [at: number | null]; pick: [at: number]; out: [] }>()
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
    if (span > 3 * 24 * hour)
      return clockText(t, props.zone, { hour: '2-digit', minute: '2-digit' }) === '00:00' || span > 20 * 24 * hour
        ? clockText(t, props.zone, { day: '2-digit', month: 'short' })
        : d
    const first = d !== day && day !== ''
    day = d
    return first && clockText(t, props.zone) === '00:00'
      ? d
      : clockText(
          t,
          props.zone,
          span < 5 * 60_000 ? { hour: '2-digit', minute: '2-digit', second: '2-digit' } : { hour: '2-digit', minute: '2-digit' },
        )
  })
}

// Split at whole hours and days of the hub's own clock.
function splits(u: uPlot): number[] {
  const want = Math.max(3, Math.floor(u.width / 90))
  const span = props.to - props.from
  const steps = [
    1,
    2,
    5,
    10,
    15,
    30,
    60,
    120,
    300,
    600,
    900,
    1800,
    3600,
    7200,
    10800,
    21600,
    43200,
    86400,
    2 * 86400,
    7 * 86400,
    14 * 86400,
    30 * 86400,
  ].map((s) => s * 1000)
  const step = steps.find((s) => span / s <= want) ?? 60 * 86400_000
  const off = offset(props.from)
  const out = []
  for (let t = Math.ceil((props.from + off) / step) * step - off; t <= props.to; t += step) out.push(t - (offset(t) - off))
  return out
}

function offset(t: number): number {
  const p = new Intl.DateTimeFormat('en-US', {
    timeZone: props.zone || 'UTC',
    hourCycle: 'h23',
    year: 'numeric',
    month: 'numeric',
    day: 'numeric',
    hour: 'numeric',
    minute: 'numeric',
    second: 'numeric',
  }).formatToParts(t)
  const n = (type: string) => Number(p.find((x) => x.type === type)?.value)
  return Date.UTC(n('year'), n('month') - 1, n('day'), n('hour'), n('minute'), n('second')) - Math.floor(t / 1000) * 1000
}

function options(width: number): uPlot.Options {
  const series: uPlot.Series[] = [{}]
  const bands: uPlot.Band[] = []
  props.pane.histories.forEach((h) => {
    const look = props.colours[h.series] ?? { colour: '--s1' }
    const stroke = () => colour(look.colour)
    // What is told on change holds until it changes: drawn in steps.
    const paths = h.hold_ms ? undefined : uPlot.paths.stepped!({ align: 1 })
    series.push({
      label: h.name,
      stroke,
      width: look.thin ? 1.2 : 1.5,
      alpha: look.ghost ? 0.45 : look.thin ? 0.7 : 1,
      dash: look.dash,
      paths,
      points: {
        show: !look.thin && !!h.hold_ms,
        size: 5,
        fill: () => css('--sheet'),
        filter: (u, k) => (u.data[0].length < 60 ? null : alone(u.data[k]!)),
      },
    })
    const k = series.length
    const quiet = { stroke: 'transparent', width: 0, points: { show: false } }
    series.push({ ...quiet }, { ...quiet })
    if (!look.ghost && !look.thin) bands.push({ series: [k + 1, k], fill: () => colour(look.colour) + '2e' })
  })
  const axis = {
    stroke: () => css('--soft'),
    font: '12px "Figtree Variable", sans-serif',
    grid: { stroke: () => css('--line'), width: 1 },
    ticks: { show: false },
  }
  return {
    width,
    height: (props.space ?? (width < 520 ? 150 : 198)) + (props.axis ? 28 : 0),
    ms: 1,
    series,
    bands,
    legend: { show: false },
    scales: { x: { time: false, range: () => [props.from, props.to] }, y: { range: tall } },
    axes: [
      {
        ...axis,
        splits,
        values: ticks,
        grid: { ...axis.grid, dash: [2, 5] },
        show: true,
        size: props.axis ? 30 : 6,
        ...(props.axis ? {} : { values: () => [] }),
      },
      { ...axis, size: 50, values: (_u, v) => v.map((x) => String(+x.toFixed(6)).replace('-', '−')) },
    ],
    cursor: {
      sync: { key: 'charts', setSeries: false },
      drag: { x: true, y: false, setScale: false },
      points: { size: 7 },
      y: false,
      bind: { dblclick: () => () => (emit('out'), null) },
    },
    padding: [8, 14, 0, 0],
    hooks: {
      setSelect: [
        (u) => {
          if (u.select.width < 6) return
          emit('zoom', u.posToVal(u.select.left, 'x'), u.posToVal(u.select.left + u.select.width, 'x'), true)
          u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false)
        },
      ],
      draw: [drawMarks, drawBad, drawNotes],
      setCursor: [(u) => emit('cursor', (u.cursor.left ?? -1) >= 0 ? u.posToVal(u.cursor.left!, 'x') : null)],
    },
  }
}

// Readings with a gap on both sides would be no line at all: they are points.
function alone(v: ArrayLike<number | null | undefined>): number[] {
  const out: number[] = []
  let open = true // the last thing was a gap
  let last = -1
  for (let i = 0; i < v.length; i++) {
    if (v[i] === undefined) continue
    if (v[i] === null) {
      if (last >= 0) out.push(last)
      last = -1
      open = true
    } else {
      last = open ? i : -1
      open = false
    }
  }
  if (last >= 0) out.push(last)
  return out
}

// Limits that are near are in the picture.
function tall(_u: uPlot, min: number | null, max: number | null): [number, number] {
  if (min === null || max === null) return [0, 1]
  const reach = Math.max(max - min, Math.abs(max) * 0.02, 0.5)
  for (const m of props.marks) {
    if (m.value! > max && m.value! < max + reach) max = m.value!
    if (m.value! < min && m.value! > min - reach) min = m.value!
  }
  const [lo, hi] = uPlot.rangeNum(min, max, 0.1, false)
  return [lo!, hi!]
}

// Setpoints that are plain numbers, and limits: thin lines across, amber where passing one means something.
function drawMarks(u: uPlot) {
  const { left, top, width, height } = u.bbox
  for (const m of props.marks) {
    const y = u.valToPos(m.value!, 'y', true)
    if (y < top || y > top + height) continue
    u.ctx.save()
    u.ctx.strokeStyle = u.ctx.fillStyle = css(m.kind === 'setpoint' ? '--ink' : '--warn')
    u.ctx.lineWidth = devicePixelRatio
    u.ctx.globalAlpha = 0.8
    u.ctx.setLineDash(m.kind === 'setpoint' ? [1.5 * devicePixelRatio, 3.5 * devicePixelRatio] : [])
    u.ctx.beginPath()
    u.ctx.moveTo(left, y)
    u.ctx.lineTo(left + width, y)
    u.ctx.stroke()
    u.ctx.font = `${11 * devicePixelRatio}px "Figtree Variable", sans-serif`
    u.ctx.textAlign = 'right'
    const words = m.kind === 'setpoint' ? `${m.name} ${m.value}` : `${m.name}, ${m.kind} ${m.value}`
    u.ctx.fillText(words.replace('-', '−'), left + width - 4 * devicePixelRatio, y - 6 * devicePixelRatio)
    u.ctx.restore()
  }
}

// Bad readings stand beside the line as hollow points, at the edge where they are far off.
function drawBad(u: uPlot) {
  const { left, top, width, height } = u.bbox
  for (const h of props.pane.histories) {
    for (const i of h.bad ?? []) {
      const x = u.valToPos(h.t[i]!, 'x', true)
      if (x < left || x > left + width) continue
      const y = Math.min(top + height - 4, Math.max(top + 4, u.valToPos(Number(h.v![i]), 'y', true)))
      u.ctx.save()
      u.ctx.beginPath()
      u.ctx.arc(x, y, 3.5 * devicePixelRatio, 0, 2 * Math.PI)
      u.ctx.fillStyle = css('--sheet')
      u.ctx.fill()
      u.ctx.lineWidth = 1.2 * devicePixelRatio
      u.ctx.strokeStyle = colour(props.colours[h.series]?.colour ?? '--s1')
      u.ctx.stroke()
      u.ctx.restore()
    }
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
  if (shown) emit('zoom', ...shown, true)
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
    emit('zoom', at - (at - props.from) * f, at + (props.to - at) * f, false)
  } else {
    const by = ((e.deltaX || e.deltaY) / over.width) * span
    emit('zoom', props.from + by, props.to + by, false)
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
// A click that is no drag picks a time.
let down: [number, number] | null = null
function press(e: PointerEvent) {
  down = [e.clientX, e.clientY]
}
function click(e: MouseEvent) {
  const over = plot.value?.over.getBoundingClientRect()
  if (!over || !down || Math.hypot(e.clientX - down[0], e.clientY - down[1]) > 5 || e.clientX < over.left || e.clientX > over.right) return
  emit('pick', props.from + ((e.clientX - over.left) / over.width) * (props.to - props.from))
}

const shape = () => props.pane.histories.map((h) => h.series + !!h.hold_ms + JSON.stringify(props.colours[h.series])).join() + props.axis
let shapeNow = shape()
watch(
  () => [props.pane.data, props.from, props.to],
  () => {
    if (shape() !== shapeNow) {
      shapeNow = shape()
      draw()
    } else plot.value?.setData(props.pane.data)
  },
)
watch(painted, () => plot.value?.redraw())
watch(
  () => [props.notes, props.marks],
  () => plot.value?.setData(props.pane.data),
)
</script>

<template>
  <div
    ref="box"
    class="pane"
    @touchstart.passive="touchStart"
    @touchend="touchEnd"
    @touchcancel="touchEnd"
    @pointerdown="press"
    @click="click"></div>
</template>

<style scoped>
.pane {
  width: 100%;
  min-height: 150px;
  touch-action: pan-y;
}
.pane :deep(.u-select) {
  background: color-mix(in srgb, var(--data) 18%, transparent);
}
.pane :deep(.u-cursor-x) {
  border-right: 1px solid var(--soft);
}
</style>
