<script setup lang="ts">
// An on/off or text series on the time axis of the charts: strips, never zigzag lines.
import { computed } from 'vue'
import type { History } from '../api'
import { runsOf } from '../day'

const props = defineProps<{ history: History; from: number; to: number; cursor: number | null }>()
const end = computed(() => Math.min(props.to, Date.now()))
const x = (t: number) => ((Math.max(props.from, Math.min(t, props.to)) - props.from) / (props.to - props.from)) * 1000
const stretches = computed(() => {
  const h = props.history
  if (h.kind === 'onoff') return runsOf(h, end.value).map(([a, b]) => ({ a, b, text: '' }))
  return h.t.map((t, i) => ({ a: t, b: h.t[i + 1] ?? (h.more ? t : end.value), text: String(h.v?.[i] ?? '') }))
})
const ember = computed(() => /\.(is|want)$/.test(props.history.series))
</script>

<template>
  <div class="strip">
    <svg viewBox="0 0 1000 18" preserveAspectRatio="none" role="img" :aria-label="history.name">
      <rect width="1000" height="18" fill="var(--line)" fill-opacity="0.6" />
      <rect
        v-for="(s, i) in stretches"
        :key="s.a"
        :x="x(s.a)"
        :width="Math.max(1, x(s.b) - x(s.a))"
        height="18"
        :fill="ember ? 'var(--ember)' : 'var(--data)'"
        :fill-opacity="history.kind === 'text' ? (i % 2 ? 0.25 : 0.45) : 0.75" />
      <line
        v-if="cursor !== null"
        :x1="x(cursor)"
        :x2="x(cursor)"
        y1="0"
        y2="18"
        stroke="var(--ink)"
        stroke-width="1"
        vector-effect="non-scaling-stroke" />
    </svg>
    <span class="name">{{ history.name }}</span>
    <span
      v-for="s in stretches.filter((q) => q.text && x(q.b) - x(q.a) > 60)"
      :key="s.a"
      class="word"
      :style="{ left: x(s.a) / 10 + '%' }"
      >{{ s.text }}</span
    >
  </div>
  <p v-if="history.more" class="warn-text small-text rest mb-1">
    {{ history.name }} changed more often than is shown; zoom in to see the rest.
  </p>
</template>

<style scoped>
.strip {
  position: relative;
  margin: 6px 14px 6px 50px;
}
svg {
  display: block;
  width: 100%;
  height: 20px;
  border-radius: 3px;
}
.name,
.word {
  position: absolute;
  left: 6px;
  top: 1px;
  font-size: 0.78rem;
  font-weight: 600;
  color: var(--ink);
  pointer-events: none;
  text-shadow:
    0 0 4px var(--sheet),
    0 0 4px var(--sheet);
}
.rest {
  margin-left: 50px;
}
.word {
  font-weight: 450;
  padding-left: 6px;
}
</style>
