<script setup lang="ts">
// A picture with what is live pinned on it. An SVG's own parts move too: filled, faded, shown, turned, written, or as high as a
// level. The hub made the file safe; here it stands in a tree of its own, so that its styles stay inside.
import { computed, onMounted, onUnmounted, ref, shallowRef, watch } from 'vue'
import { sentence, type Part, type Pin, type Tile } from '../../api'
import { about, pictureAt } from '../../dashboards'
import type { Trace } from '../../day'
import { runs, valueText } from '../../format'
import { doubt } from '../../fresh'
import { useHub } from '../../hub'
import { shownUnit, shownValue } from '../../units'
import Position from '../Position.vue'
import Sparkline from '../Sparkline.vue'
import TileLamp from './TileLamp.vue'

const props = defineProps<{
  tile: Tile
  traces: Record<string, Trace>
  from: number
  to: number
  formulas?: Record<string, string>
  editing?: boolean
  picked?: string
}>()
const emit = defineEmits<{ pin: [id: string, x: number, y: number]; pick: [id: string]; elements: [ids: { id: string; what: string }[]] }>()
const hub = useHub()
const host = ref<HTMLDivElement>()
const root = shallowRef<SVGElement | null>(null)
const ratio = ref(1.6)
const failed = ref('')
const plain = ref(false)

async function load() {
  root.value = null
  failed.value = ''
  plain.value = false
  try {
    const r = await fetch(pictureAt(props.tile.picture!))
    if (!r.ok) throw new Error('The picture is gone.')
    if (!r.headers.get('Content-Type')?.startsWith('image/svg')) {
      plain.value = true
      return
    }
    // The hub wrote the file: a style element holds nothing but text.
    const rules: string[] = []
    const xml = (text: string) => new DOMParser().parseFromString(text, 'image/svg+xml').documentElement
    const svg = xml(
      (await r.text()).replace(/<style>([^<]*)<\/style>/g, (_, css: string) => {
        rules.push(xml(`<svg>${css}</svg>`).textContent ?? '')
        return ''
      }),
    )
    const shadow = host.value!.shadowRoot ?? host.value!.attachShadow({ mode: 'open' })
    // Only sheets that are made by code may style, by the console's own rules for what a page may do.
    const sheets = rules.map((css) => {
      const sheet = new CSSStyleSheet()
      sheet.replaceSync(css)
      return sheet
    })
    const fit = new CSSStyleSheet()
    fit.replaceSync(
      ':host{display:block} svg{display:block;width:100%;height:100%} [data-moves]{transform-box:fill-box;transition:fill .3s,opacity .3s,transform .3s} [data-old]{filter:grayscale(1) opacity(.45)} @media (prefers-reduced-motion:reduce){[data-moves]{transition:none}}',
    )
    shadow.adoptedStyleSheets = [fit, ...sheets]
    shadow.replaceChildren(document.importNode(svg, true))
    root.value = shadow.querySelector('svg')
    const box = (svg.getAttribute('viewBox') ?? '').split(/[\s,]+/).map(Number)
    if (box[2]! > 0 && box[3]! > 0) ratio.value = box[2]! / box[3]!
    emit(
      'elements',
      [...shadow.querySelectorAll('[id]')]
        .filter((e) => !e.closest('defs'))
        .map((e) => ({ id: e.id, what: e.querySelector('title')?.textContent || e.tagName })),
    )
    move()
  } catch (e) {
    failed.value = sentence(e)
  }
}
onMounted(load)
watch(() => props.tile.picture, load)

const tones = ['ember', 'data', 'well', 'warn', 'critical', 'ink', 'soft', 'sheet', 'line']
const colour = (c: string) => (tones.includes(c) ? `var(--${c})` : c)

/** What moves a part now: a number, on or off, or words; undefined where it is not known. */
function valueOf(p: Part): number | boolean | string | undefined {
  if (p.formula) {
    const v = props.formulas?.[p.formula]
    if (v === undefined || v === 'unknown') return undefined
    return v === 'true' ? true : v === 'false' ? false : v !== '' && !Number.isNaN(Number(v)) ? Number(v) : v
  }
  const c = hub.controls[p.of!]
  if (c) return typeof c.state.is === 'number' ? c.state.is : c.state.is === undefined ? undefined : runs(c.state.is)
  return hub.signals[p.of!]?.state.value as number | boolean | string | undefined
}
function share(p: Part, v: number | boolean | string): number {
  if (typeof v === 'boolean') return v ? 1 : 0
  const n = Number(v)
  const low = p.low ?? 0
  const high = p.high ?? 0
  return Number.isNaN(n) ? 0 : high > low ? Math.min(1, Math.max(0, (n - low) / (high - low))) : n > low ? 1 : 0
}
function move() {
  if (!root.value) return
  for (const p of props.tile.parts ?? []) {
    const e = root.value.querySelector<SVGElement>(`[id="${CSS.escape(p.element)}"]`)
    if (!e) continue
    e.setAttribute('data-moves', '')
    const v = valueOf(p)
    e.toggleAttribute('data-unknown', v === undefined)
    e.toggleAttribute('data-old', !!doubted(p))
    const k = v === undefined ? 0 : share(p, v)
    const between = (a: number, b: number) => a + (b - a) * k
    switch (p.does) {
      case 'fill':
        e.style.fill =
          v === undefined
            ? 'var(--line)'
            : `color-mix(in srgb, ${colour(p.end || 'ember')} ${Math.round(k * 100)}%, ${colour(p.start || 'sheet')})`
        break
      case 'opacity':
        e.style.opacity = String(v === undefined ? 0.3 : between(Number(p.start || 0.15), Number(p.end || 1)))
        break
      case 'show':
        e.style.visibility = k > 0 ? 'visible' : 'hidden'
        break
      case 'turn':
        e.style.transformOrigin = 'center'
        e.style.transform = `rotate(${between(Number(p.start || 0), Number(p.end || 90))}deg)`
        break
      case 'level':
        e.style.transformOrigin = 'bottom'
        e.style.transform = `scaleY(${v === undefined ? 0.02 : k})`
        break
      case 'text': {
        const s = p.of ? hub.signals[p.of] : undefined
        const text =
          v === undefined ? '–' : s ? `${shownValue(v, s.config.unit, s.config.decimals)} ${shownUnit(s.config.unit)}`.trim() : valueText(v)
        const leaf = e.tagName === 'text' || e.tagName === 'tspan' ? e : e.querySelector('text, tspan')
        if (leaf && leaf.textContent !== text) leaf.textContent = text
      }
    }
  }
}
const doubted = (p: Part) => (p.of ? doubt(hub, p.of) : hub.link === 'lost' ? 'not live' : '')
watch(() => JSON.stringify((props.tile.parts ?? []).map((p) => [p, valueOf(p), !!doubted(p)])), move)

// What is not as it is now is said in words too: a grey part of a grey drawing is seen by nobody.
const old = computed(() => {
  const words = new Map(
    (props.tile.parts ?? []).flatMap((p) => (p.of && hub.link !== 'lost' && doubted(p) ? [[p.of, doubted(p)] as const] : [])),
  )
  return [...words].map(([of, why]) => `${about(of).name}: ${why}`)
})

// Pins may be dragged while arranging, by mouse, finger, or the arrow keys.
const frame = ref<HTMLDivElement>()
function grab(e: PointerEvent, pin: Pin) {
  if (!props.editing) return
  e.preventDefault()
  emit('pick', pin.id)
  const box = frame.value!.getBoundingClientRect()
  const to = (m: PointerEvent) =>
    emit('pin', pin.id, clamp(((m.clientX - box.left) / box.width) * 100), clamp(((m.clientY - box.top) / box.height) * 100))
  const end = () => {
    window.removeEventListener('pointermove', to)
    window.removeEventListener('pointerup', end)
  }
  window.addEventListener('pointermove', to)
  window.addEventListener('pointerup', end)
}
const clamp = (v: number) => Math.round(Math.min(100, Math.max(0, v)) * 10) / 10
function nudge(e: KeyboardEvent, pin: Pin) {
  const by = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[e.key]
  if (!by || !props.editing) return
  e.preventDefault()
  e.stopPropagation()
  emit('pin', pin.id, clamp(pin.x + by[0]!), clamp(pin.y + by[1]!))
}
const named = (p: Pin) => p.name || about(p.of).name

// The drawing keeps its shape within the tile, so that pins stay on what they belong to.
const box = ref<HTMLDivElement>()
const fit = ref({ width: '100%', height: '100%' })
function resize() {
  const b = box.value
  if (!b || !b.clientWidth || !b.clientHeight) return
  const w = Math.min(b.clientWidth, b.clientHeight * ratio.value)
  fit.value = { width: `${w}px`, height: `${w / ratio.value}px` }
}
let sizes: ResizeObserver | undefined
onMounted(() => {
  sizes = new ResizeObserver(resize)
  sizes.observe(box.value!)
})
onUnmounted(() => sizes?.disconnect())
watch(ratio, resize)
function seen(e: Event) {
  const i = e.target as HTMLImageElement
  if (i.naturalHeight) ratio.value = i.naturalWidth / i.naturalHeight
}
const card = computed(() => props.tile.name || 'Picture')
</script>

<template>
  <div ref="box" class="box">
    <p v-if="failed" class="warn-text small-text" role="alert">{{ failed }}</p>
    <div ref="frame" class="frame" :style="fit">
      <div v-show="!plain" ref="host" class="drawing" role="img" :aria-label="card"></div>
      <img v-if="plain" :src="pictureAt(tile.picture!)" :alt="card" @load="seen" />
      <div
        v-for="p in tile.pins ?? []"
        :key="p.id"
        class="pin"
        :class="[p.kind, { picked: editing && picked === p.id, editing }]"
        :style="{ left: p.x + '%', top: p.y + '%' }"
        :data-pin="p.id"
        :tabindex="editing ? 0 : undefined"
        :role="editing ? 'button' : undefined"
        :aria-label="editing ? `Pin ${named(p)}` : undefined"
        @pointerdown="grab($event, p)"
        @keydown="nudge($event, p)"
        @focus="editing && emit('pick', p.id)">
        <span class="soft small-text">{{ named(p) }}</span>
        <template v-if="about(p.of).kind === 'gone'"><b class="warn-text">gone</b></template>
        <TileLamp v-else-if="p.kind === 'lamp'" :of="p.of" />
        <Position v-else-if="p.kind === 'control' && hub.controls[p.of]" :control="hub.controls[p.of]!" :inert="editing" />
        <template v-else-if="hub.signals[p.of]">
          <b :class="{ soft: doubt(hub, p.of) }"
            >{{ shownValue(hub.signals[p.of]!.state.value, hub.signals[p.of]!.config.unit, hub.signals[p.of]!.config.decimals) }}
            {{ shownUnit(hub.signals[p.of]!.config.unit) }}</b
          >
          {{ ' ' }}<span v-if="doubt(hub, p.of)" class="warn-text small-text">{{ doubt(hub, p.of) }}</span>
          <Sparkline v-if="p.kind === 'sparkline'" :trace="traces[p.of]" :from="from" :to="to" :faded="!!doubt(hub, p.of)" />
        </template>
        <TileLamp v-else :of="p.of" />
      </div>
    </div>
    <p v-if="old.length" class="old warn-text small-text">
      {{ old.slice(0, 3).join(' · ') }}{{ old.length > 3 ? ` · ${old.length - 3} more` : '' }}
    </p>
  </div>
</template>

<style scoped>
.old {
  position: absolute;
  left: 8px;
  right: 8px;
  bottom: 4px;
  margin: 0;
  padding: 0 6px;
  background: color-mix(in srgb, var(--sheet) 88%, transparent);
  border-radius: 6px;
  width: fit-content;
  max-width: calc(100% - 16px);
}
.box {
  position: relative;
  height: 100%;
  display: grid;
  place-items: center;
  min-height: 0;
  overflow: hidden;
}
.frame {
  position: relative;
}
/* Whatever a drawing says of itself, it draws within its tile. */
.drawing {
  contain: strict;
  isolation: isolate;
}
.drawing,
img {
  width: 100%;
  height: 100%;
  display: block;
}
img {
  object-fit: contain;
}
.pin {
  position: absolute;
  transform: translate(-50%, -50%);
  background: color-mix(in srgb, var(--sheet) 88%, transparent);
  border: 1px solid var(--line);
  border-radius: 8px;
  padding: 2px 8px;
  line-height: 1.25;
  max-width: 60%;
}
.pin > span {
  display: block;
  white-space: nowrap;
}
.pin b {
  white-space: nowrap;
}
.pin.sparkline {
  width: 120px;
}
.pin.editing {
  cursor: grab;
  touch-action: none;
}
.pin.picked {
  outline: 2px solid var(--data);
}
@media (max-width: 520px) {
  .pin {
    font-size: 0.75rem;
    padding: 1px 5px;
  }
  .pin > span {
    font-size: 0.68rem;
  }
}
</style>
