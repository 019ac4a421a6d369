<script setup lang="ts">
// For how long a value was in which range: a bar for each.
import { computed } from 'vue'
import type { Summary } from '../api'
import { length, unitSign, valueText } from '../format'

const props = defineProps<{ summary: Summary }>()
const most = computed(() => Math.max(1, ...props.summary.bins.map((b) => b.ms)))
const all = computed(() =>
  Math.max(
    1,
    props.summary.bins.reduce((n, b) => n + b.ms, 0),
  ),
)
const decimals = computed(() => {
  const width = props.summary.bins[0] ? props.summary.bins[0].to - props.summary.bins[0].from : 1
  return width >= 1 && Number.isInteger(width) ? 0 : Math.max(0, Math.min(6, Math.ceil(-Math.log10(width) - 1e-9)))
})
const few = computed(() => Math.max(1, Math.ceil(props.summary.bins.length / 8)))
const word = (v: number) => valueText(v, decimals.value)
const share = (ms: number) => `${((ms / all.value) * 100).toFixed(ms / all.value < 0.1 ? 1 : 0)} %`
</script>

<template>
  <div class="bars" role="img" :aria-label="`${summary.name}: for how long it was in which range`">
    <div
      v-for="(b, i) in summary.bins"
      :key="b.from"
      class="bar"
      :title="`${word(b.from)} to ${word(b.to)} ${unitSign(summary.unit)}: ${length(b.ms)}, ${share(b.ms)}`">
      <div class="space"><div class="fill" :style="{ height: `${(b.ms / most) * 100}%` }"></div></div>
      <span class="soft">{{ i % few === 0 ? word(b.from) : '' }}</span>
    </div>
  </div>
  <details class="small-text mt-1">
    <summary>As a table</summary>
    <table class="table">
      <thead>
        <tr>
          <th>{{ unitSign(summary.unit) || 'value' }}</th>
          <th class="num">for</th>
          <th class="num">share</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="b in summary.bins.filter((x) => x.ms)" :key="b.from">
          <td>{{ word(b.from) }} to {{ word(b.to) }}</td>
          <td class="num">{{ length(b.ms) }}</td>
          <td class="num">{{ share(b.ms) }}</td>
        </tr>
      </tbody>
    </table>
  </details>
</template>

<style scoped>
.bars {
  display: flex;
  gap: 2px;
  align-items: stretch;
  height: 150px;
}
.bar {
  flex: 1 1 0;
  min-width: 0;
  display: flex;
  flex-direction: column;
}
.space {
  flex: 1;
  display: flex;
  align-items: flex-end;
  border-bottom: 1px solid var(--line);
}
.fill {
  width: 100%;
  background: var(--data);
  opacity: 0.75;
  border-radius: 2px 2px 0 0;
  min-height: 1px;
}
.bar span {
  font-size: 0.72rem;
  height: 18px;
  white-space: nowrap;
  overflow: visible;
}
</style>
