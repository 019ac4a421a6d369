<script setup lang="ts">
// Panes stacked on one time axis, a pane for each unit, with strips for what is on or off or words below them.
import { computed } from 'vue'
import type { History, Mark, Remark } from '../api'
import { panes as makePanes } from '../chart'
import { unitSign } from '../format'
import { useHub } from '../hub'
import ChartPane, { type Look } from './ChartPane.vue'
import StripPane from './StripPane.vue'

const props = defineProps<{
  histories: History[]
  ghosts?: History[]
  setpoints?: History[]
  marks?: Mark[]
  notes?: Remark[]
  from: number
  to: number
  cursor: number | null
  before?: string
  space?: number
}>()
const emit = defineEmits<{ zoom: [from: number, to: number, rests: boolean]; cursor: [at: number | null]; pick: [at: number]; out: [] }>()
const hub = useHub()
const looks: Look[] = [{ colour: '--s1' }, { colour: '--s2', dash: [6, 4] }, { colour: '--s3' }, { colour: '--s4', dash: [2, 3] }]

const numbers = computed(() => props.histories.filter((h) => h.kind === 'number'))
const panes = computed(() =>
  makePanes([
    ...numbers.value,
    ...(props.ghosts ?? []),
    ...(props.setpoints ?? []).filter((s) => numbers.value.some((h) => h.unit === s.unit)),
  ]),
)
const strips = computed(() => props.histories.filter((h) => h.kind !== 'number'))
const colours = computed(() => {
  const out: Record<string, Look> = Object.fromEntries(numbers.value.map((h, i) => [h.series, looks[i % looks.length]!]))
  for (const g of props.ghosts ?? []) out[g.series] = { colour: out[g.series.split('@')[0]!]?.colour ?? '--s1', ghost: true }
  for (const s of props.setpoints ?? []) out[s.series] = { colour: '--ink', dash: [1.5, 3.5], thin: true }
  return out
})
const own = (list: History[]) => list.filter((h) => !/[@#]/.test(h.series))
const drawn = (list: History[]) => [...new Set(list.filter((h) => h.series.endsWith('#')).map((h) => h.name))]
const marksOf = (list: History[]) => (props.marks ?? []).filter((m) => m.value !== undefined && list.some((h) => h.series === m.series))
defineExpose({ colours, panes })
</script>

<template>
  <template v-for="(p, i) in panes" :key="p.unit">
    <div class="pane-title">
      <strong>{{
        own(p.histories)
          .map((h) => h.name)
          .join(', ')
      }}</strong>
      {{ ' ' }}<span class="soft">{{ unitSign(p.unit) }}</span
      ><span v-if="before" class="soft small-text">, pale: {{ before }}</span
      ><span v-if="drawn(p.histories).length" class="soft small-text">, dotted: {{ drawn(p.histories).join(', ') }}</span>
    </div>
    <ChartPane
      :pane="p"
      :from="from"
      :to="to"
      :zone="hub.zone"
      :colours="colours"
      :axis="i === panes.length - 1"
      :notes="notes ?? []"
      :marks="marksOf(p.histories)"
      :space="space"
      @zoom="(f, t, rests) => emit('zoom', f, t, rests)"
      @cursor="emit('cursor', $event)"
      @pick="emit('pick', $event)"
      @out="emit('out')" />
  </template>
  <StripPane v-for="h in strips" :key="h.series" :history="h" :from="from" :to="to" :cursor="cursor" />
</template>

<style scoped>
.pane-title {
  padding-left: 50px;
  margin-bottom: 2px;
}
.pane-title ~ .pane-title {
  margin-top: 10px;
}
</style>
