<script lang="ts">
import { isOnOff, type TileKind } from '../tiles'

export const kind: TileKind = {
  title: 'When it ran, and will run',
  shows: ['signal', 'control'],
  day: true,
  fits: (x) => (isOnOff(x) || x.kind === 'control' ? 3 : 0),
  more: { of: ['signal', 'control'], called: 'One more' },
}
</script>

<script setup lang="ts">
// When things ran in the last day, and what their schedules plan for the next half of one.
import { useIntervalFn } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { api, ask, type Upcoming } from '../api'
import { about } from '../dashboards'
import { clockText, length } from '../format'
import { useHub } from '../hub'
import { seriesOf, type Shown } from '../tiles'
import RunStrip from '../components/RunStrip.vue'

const props = defineProps<{ shown: Shown; form?: boolean }>()
const hub = useHub()
const ahead = 12 * 3600_000
const planned = ref<Upcoming[]>([])
const ids = computed(() => props.shown.tile.of ?? [])
const controls = computed(() => ids.value.filter((id) => hub.controls[id]))
async function load() {
  if (!controls.value.length || document.hidden || hub.link !== 'live') return
  try {
    const list = await ask(api.GET('/next', { params: { query: { until: new Date(Date.now() + hub.offset + ahead).toISOString() } } }))
    planned.value = list.filter((u) => u.ends && controls.value.includes(u.id))
  } catch {
    /* the banner says that the hub is away */
  }
}
useIntervalFn(load, 60_000)
watch(() => [hub.link, ...controls.value.map((id) => id + hub.controls[id]!.state.mode)].join(), load, { immediate: true })

const until = computed(() => (planned.value.length ? props.shown.to + ahead : undefined))
const strips = computed(() =>
  ids.value.map((id) => {
    const runs = props.shown.runs[seriesOf(id)]
    const mine = planned.value.filter((u) => u.id === id && Date.parse(u.ends!) > props.shown.to)
    const next = mine.find((u) => Date.parse(u.at) > props.shown.to)
    return {
      id,
      name: about(id).name,
      runs,
      colour: hub.controls[id] ? undefined : 'var(--data)',
      total: (runs ?? []).reduce((sum, [a, b]) => sum + Math.max(0, Math.min(b, props.shown.to) - Math.max(a, props.shown.from)), 0),
      plan: mine.map((u): [number, number] => [Date.parse(u.at), Date.parse(u.ends!)]),
      next: next
        ? `next ${clockText(Date.parse(next.at), hub.zone)} for ${length(Date.parse(next.ends!) - Date.parse(next.at))}${hub.controls[id]!.state.mode === 'manual' ? ', if in auto then' : ''}`
        : '',
    }
  }),
)
</script>

<template>
  <div v-if="!form" class="strips">
    <div v-for="s in strips" :key="s.id">
      <span class="between small-text"
        ><span>{{ s.name }}</span
        ><span class="soft">{{ length(s.total) }} of a day{{ s.next ? ` · ${s.next}` : '' }}</span></span
      >
      <RunStrip
        :runs="s.runs"
        :from="shown.from"
        :to="shown.to"
        :what="s.name"
        :colour="s.colour"
        :plan="s.plan"
        :until="until"
        :said="s.next" />
    </div>
  </div>
</template>

<style scoped>
.strips {
  display: grid;
  gap: 8px;
}
</style>
