<script setup lang="ts">
// What will run: a strip for each day of the coming week, and a table.
import { computed } from 'vue'
import type { Upcoming } from '../../api'
import { clockText, length } from '../../format'
import { useHub } from '../../hub'

const props = defineProps<{ list: Upcoming[] | null }>() // null: not known
const hub = useHub()
const day = 86400_000
const runs = computed(() =>
  (props.list ?? []).filter((u) => u.ends).map((u) => ({ ...u, from: Date.parse(u.at), to: Date.parse(u.ends!) })),
)
const rows = computed(() => [...new Set(runs.value.map((r) => r.id))])
const start = computed(() => {
  const now = hub.now
  const [h, m] = clockText(now, hub.zone).split(':').map(Number)
  return now - ((h ?? 0) * 60 + (m ?? 0)) * 60_000
})
const days = computed(() => Array.from({ length: 7 }, (_, i) => start.value + i * day))
const name = (id: string) => hub.controls[id]?.config.name ?? hub.settings[id]?.config.name ?? id
const part = (r: { from: number; to: number }) => {
  const whole = 7 * day
  const from = Math.max(0, (r.from - start.value) / whole)
  return { x: from * 700, w: Math.max(1.2, (Math.min(1, (r.to - start.value) / whole) - from) * 700) }
}
</script>

<template>
  <section class="sheet" data-parts="next">
    <h2 class="mb-2">Coming up</h2>
    <p v-if="list && !list.length" class="soft small-text mb-0">Nothing is planned: no schedule, and nothing by hand that ends.</p>
    <div v-if="rows.length" class="week" role="img" :aria-label="`Runs of the coming week: ${rows.map(name).join(', ')}`">
      <span></span>
      <div class="names">
        <span v-for="d in days" :key="d" class="soft small-text">{{
          clockText(d + day / 2, hub.zone, { weekday: 'short', day: 'numeric' })
        }}</span>
      </div>
      <template v-for="id in rows" :key="id">
        <span class="small-text">{{ name(id) }}</span>
        <svg viewBox="0 0 700 14" preserveAspectRatio="none" aria-hidden="true">
          <line v-for="i in 8" :key="i" :x1="(i - 1) * 100" :x2="(i - 1) * 100" y1="0" y2="14" stroke="var(--line)" />
          <rect
            v-for="(r, k) in runs.filter((x) => x.id === id)"
            :key="k"
            :x="part(r).x"
            :width="part(r).w"
            y="4"
            height="6"
            fill="var(--ember)" />
        </svg>
      </template>
    </div>
    <div v-if="list?.length" class="table-box">
      <table class="table cards tight small-text">
        <thead>
          <tr>
            <th>When</th>
            <th>For</th>
            <th>What</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(u, i) in list.slice(0, 12)" :key="i">
            <td>
              {{
                clockText(Date.parse(u.at), hub.zone, {
                  weekday: 'short',
                  day: 'numeric',
                  month: 'short',
                  hour: '2-digit',
                  minute: '2-digit',
                })
              }}
            </td>
            <td>{{ u.ends ? length(Date.parse(u.ends) - Date.parse(u.at)) : '' }}</td>
            <td>{{ name(u.id) }}: {{ u.what }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<style scoped>
.week {
  display: grid;
  grid-template-columns: minmax(90px, auto) minmax(0, 1fr);
  gap: 6px 12px;
  align-items: center;
  margin-bottom: 12px;
}
.week svg {
  width: 100%;
  height: 14px;
  display: block;
}
.names {
  display: grid;
  grid-template-columns: repeat(7, 1fr);
}
.table-box {
  overflow-x: auto;
}
</style>
