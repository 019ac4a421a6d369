<script setup lang="ts">
// When a switch was on in the last 24 hours.
import { computed } from 'vue'
import { length } from '../format'
import type { Runs } from '../day'

const props = defineProps<{ runs?: Runs; from: number; to: number; what: string; colour?: string; lost?: number }>() // lost: nothing was heard since then

const bars = computed(() =>
  (props.runs ?? [])
    .map(([a, b]) => [Math.max(a, props.from), Math.min(b, props.to, props.lost ?? Infinity)] as const)
    .filter(([a, b]) => b > a)
    .map(([a, b]) => ({ x: ((a - props.from) / (props.to - props.from)) * 1000, w: Math.max(2, ((b - a) / (props.to - props.from)) * 1000) })),
)
const total = computed(() => (props.runs ?? []).reduce((sum, [a, b]) => sum + Math.max(0, Math.min(b, props.to, props.lost ?? Infinity) - Math.max(a, props.from)), 0))
</script>

<template>
  <svg class="strip" viewBox="0 0 1000 6" preserveAspectRatio="none" role="img" :aria-label="`${what}: on for ${length(total)} in the last 24 hours`">
    <rect width="1000" height="6" fill="var(--line)" />
    <rect v-for="b in bars" :key="b.x" :x="b.x" :width="b.w" height="6" :fill="colour ?? 'var(--ember)'" />
  </svg>
</template>

<style scoped>
.strip { display: block; width: 100%; height: 5px; border-radius: 2px; }
</style>
