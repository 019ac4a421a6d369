<script setup lang="ts">
// A signal's last 24 hours, drawn small. Gaps stay open.
import { computed } from 'vue'
import type { Trace } from '../day'

const props = defineProps<{ trace?: Trace; from: number; to: number; faded?: boolean }>()
const W = 240
const H = 34

const path = computed(() => {
  const t = props.trace
  if (!t || t.t.length === 0) return { line: '', fill: '' }
  let lo = Infinity
  let hi = -Infinity
  for (const v of t.v) {
    lo = Math.min(lo, v)
    hi = Math.max(hi, v)
  }
  const pad = Math.max((hi - lo) * 0.12, Math.abs(hi) * 0.004, 0.05)
  const x = (ms: number) => ((ms - props.from) / (props.to - props.from)) * W
  const y = (v: number) => H - 2 - ((v - lo + pad) / (hi - lo + 2 * pad)) * (H - 4)
  let line = ''
  let fill = ''
  let start = -1
  const close = (i: number) => {
    if (start >= 0) fill += `L${x(t.t[i]!).toFixed(1)},${H}L${x(t.t[start]!).toFixed(1)},${H}Z`
  }
  t.t.forEach((ms, i) => {
    const fresh = i === 0 || ms - t.t[i - 1]! > t.hold
    if (fresh && i > 0) close(i - 1)
    const step = `${fresh ? 'M' : 'L'}${x(ms).toFixed(1)},${y(t.v[i]!).toFixed(1)}`
    if (fresh) start = i
    line += step
    fill += step
  })
  close(t.t.length - 1)
  return { line, fill }
})
</script>

<template>
  <svg class="spark" :class="{ faded }" :viewBox="`0 0 ${W} ${H}`" preserveAspectRatio="none" aria-hidden="true">
    <path :d="path.fill" fill="var(--data)" fill-opacity="0.09" />
    <path :d="path.line" fill="none" stroke="var(--data)" stroke-width="1.4" vector-effect="non-scaling-stroke" stroke-linejoin="round" />
  </svg>
</template>

<style scoped>
.spark {
  display: block;
  width: 100%;
  height: 34px;
}
.faded {
  opacity: 0.45;
}
</style>
