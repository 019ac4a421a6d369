<script setup lang="ts">
// When a switch was on in the last 24 hours; and where a plan is given, when it will be until then.
import { computed } from 'vue'
import { length } from '../format'
import type { Runs } from '../day'

const props = defineProps<{
  runs?: Runs
  from: number
  to: number
  what: string
  colour?: string
  lost?: number
  plan?: Runs
  until?: number
  said?: string
}>() // lost: nothing was heard since then

const x = (t: number) => ((t - props.from) / ((props.until ?? props.to) - props.from)) * 1000
const part = ([a, b]: readonly [number, number]) => ({ x: x(a), w: Math.max(2, x(b) - x(a)) })

const bars = computed(() =>
  (props.runs ?? [])
    .map(([a, b]) => [Math.max(a, props.from), Math.min(b, props.to, props.lost ?? Infinity)] as const)
    .filter(([a, b]) => b > a)
    .map(part),
)
const planned = computed(() =>
  (props.until ? (props.plan ?? []) : []).map(([a, b]) => part([Math.max(a, props.to), Math.min(b, props.until!)])),
)
const total = computed(() =>
  (props.runs ?? []).reduce((sum, [a, b]) => sum + Math.max(0, Math.min(b, props.to, props.lost ?? Infinity) - Math.max(a, props.from)), 0),
)
</script>

<template>
  <svg
    class="strip"
    viewBox="0 0 1000 6"
    preserveAspectRatio="none"
    role="img"
    :aria-label="`${what}: on for ${length(total)} in the last 24 hours${said ? `, ${said}` : ''}`">
    <rect :width="x(to)" height="6" fill="var(--line)" />
    <rect v-if="until" :x="x(to)" y="2.5" :width="1000 - x(to)" height="1" fill="var(--line)" />
    <rect
      v-for="b in planned"
      :key="'p' + b.x"
      class="planned"
      :x="b.x"
      y="1"
      :width="b.w"
      height="4"
      :fill="colour ?? 'var(--ember)'"
      opacity="0.55" />
    <rect v-for="b in bars" :key="b.x" :x="b.x" :width="b.w" height="6" :fill="colour ?? 'var(--ember)'" />
  </svg>
</template>

<style scoped>
.strip {
  display: block;
  width: 100%;
  height: 5px;
  border-radius: 2px;
}
</style>
