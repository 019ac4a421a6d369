<script setup lang="ts">
// What a chart shows, as a table: for those who do not see the lines, and for whoever wants the very numbers.
import { computed, ref } from 'vue'
import type { History } from '../api'
import { valueAt } from '../chart'
import { clockText, unitSign, valueText } from '../format'
import { useHub } from '../hub'

const props = defineProps<{ histories: History[]; from: number; to: number }>()
const hub = useHub()
const open = ref(false)
const most = 200
// Of very many readings as many as one can read, evenly through the stretch, the newest first.
const times = computed(() => {
  const all = [...new Set(props.histories.flatMap((h) => h.t))].filter((t) => t >= props.from && t <= props.to).sort((a, b) => b - a)
  return all.length <= most ? all : Array.from({ length: most }, (_, i) => all[Math.floor((i * all.length) / most)]!)
})
const cell = (h: History, t: number) => {
  const v = valueAt(h, t)
  return v === undefined || v === null ? '' : valueText(v, h.decimals)
}
const day = computed(
  () =>
    ({
      day: 'numeric',
      month: 'short',
      year: props.to - props.from > 300 * 86_400_000 ? 'numeric' : undefined,
      hour: '2-digit',
      minute: '2-digit',
      second: props.to - props.from < 7_200_000 ? '2-digit' : undefined,
    }) as const,
)
</script>

<template>
  <details class="table-of no-print" @toggle="open = ($event.target as HTMLDetailsElement).open">
    <summary>As a table</summary>
    <div v-if="open" class="scrolls" tabindex="0" role="region" aria-label="What the chart shows, as a table">
      <table class="table table-sm">
        <thead>
          <tr>
            <th scope="col">Time</th>
            <th v-for="h in histories" :key="h.series" scope="col" class="num">
              {{ h.name }}<template v-if="h.unit"> {{ unitSign(h.unit) }}</template
              ><template v-if="h.step_ms && h.kind === 'number'">, mean</template>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="t in times" :key="t">
            <th scope="row">{{ clockText(t, hub.zone, day) }}</th>
            <td v-for="h in histories" :key="h.series" class="num">{{ cell(h, t) }}</td>
          </tr>
        </tbody>
      </table>
      <p v-if="times.length === most" class="soft small-text">{{ most }} of the times, evenly through the stretch. Save as CSV has all.</p>
    </div>
  </details>
</template>

<style scoped>
.table-of {
  margin-top: 10px;
}
.scrolls {
  max-height: 420px;
  overflow: auto;
}
thead th {
  position: sticky;
  top: 0;
  background: var(--sheet);
}
tbody th {
  font-weight: 450;
  white-space: nowrap;
}
</style>
