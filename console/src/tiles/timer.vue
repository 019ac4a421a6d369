<script lang="ts">
import { isNumber, isOnOff, type TileKind } from '../tiles'

export const kind: TileKind = {
  title: 'Timer',
  shows: ['signal', 'control'],
  small: true,
  day: true,
  fits: (x) => (isNumber(x) ? 5 : isOnOff(x) || x.kind === 'control' ? 4 : 0),
}
</script>

<script setup lang="ts">
// How long something has been on, how long the last time, and how long today.
import { computed } from 'vue'
import type { Tile } from '../api'
import type { Runs } from '../day'
import { clockText, runs as isRunning } from '../format'
import { num } from '../form'
import { doubt } from '../fresh'
import { useHub } from '../hub'
import { seriesOf, type Shown } from '../tiles'
import { zonedInstant, zonedText } from '../zoned'

const props = defineProps<{ shown: Shown; form?: boolean }>()
const emit = defineEmits<{ change: [by: Partial<Tile>] }>()
const hub = useHub()
const id = computed(() => props.shown.tile.of![0]!)
const trace = computed(() => props.shown.traces[id.value])
const over = computed(() => props.shown.tile.over ?? 0)
const on = computed(() => {
  const c = hub.controls[id.value]
  if (c) return isRunning(c.state.is)
  const v = hub.signals[id.value]?.state.value
  return typeof v === 'number' ? v > over.value : v === true
})
const old = computed(() => doubt(hub, id.value))
// Of numbers the runs are the stretches above the limit.
const stretches = computed<Runs>(() => {
  if (!trace.value) return props.shown.runs[seriesOf(id.value)] ?? []
  const { t, v } = trace.value
  const out: Runs = []
  t.forEach((at, i) => {
    if (v[i]! <= over.value) return
    const end = t[i + 1] ?? props.shown.to
    const last = out.at(-1)
    if (last && last[1] === at) last[1] = end
    else out.push([at, end])
  })
  return out
})
const begun = computed(() => {
  const told = hub.controls[id.value]?.state.is_since
  if (told) return Date.parse(told)
  const last = stretches.value.at(-1)
  return last && last[1] >= props.shown.to - 60_000 ? last[0] : hub.now
})
const midnight = computed(() => zonedInstant(zonedText(hub.now, hub.zone).slice(0, 10) + 'T00:00', hub.zone))
const now = computed(() => (on.value ? Math.max(0, hub.now - begun.value) : 0))
const before = computed(() => stretches.value.filter(([a]) => !on.value || a < begun.value - 1000))
const today = computed(
  () =>
    before.value.reduce((sum, [a, b]) => sum + Math.max(0, b - Math.max(a, midnight.value)), 0) +
    (on.value ? hub.now - Math.max(begun.value, midnight.value) : 0),
)
const last = computed(() => before.value.at(-1))
const clock = (ms: number) => {
  const s = Math.floor(ms / 1000)
  return `${Math.floor(s / 3600)}:${String(Math.floor(s / 60) % 60).padStart(2, '0')}:${String(s % 60).padStart(2, '0')}`
}
</script>

<template>
  <div v-if="!form" class="timer">
    <span class="big" :class="{ on: on && !old }" role="timer">{{
      on && old ? 'on?' : on ? clock(now) : last ? clock(last[1] - last[0]) : '0:00:00'
    }}</span>
    <span class="soft small-text"
      >{{
        on && old
          ? 'on when last heard'
          : on
            ? `on since ${clockText(begun, hub.zone)}`
            : last
              ? `the last time, until ${clockText(last[1], hub.zone)}`
              : 'not on for a day'
      }}
      <template v-if="!on || !old">· today {{ clock(today) }}</template
      ><span v-if="old" class="warn-text"> · {{ old }}</span></span
    >
  </div>
  <label v-else-if="hub.signals[id]"
    ><span class="soft small-text">Of a number: it runs above</span
    ><input
      class="form-control form-control-sm"
      type="number"
      step="any"
      :value="shown.tile.over"
      placeholder="0"
      @change="emit('change', { over: num(($event.target as HTMLInputElement).value) })"
  /></label>
</template>

<style scoped>
.timer {
  display: grid;
}
.big {
  font-size: var(--big);
  font-weight: 620;
  line-height: 1.2;
  color: var(--soft);
}
.big.on {
  color: var(--ember);
}
</style>
