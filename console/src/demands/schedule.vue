<script lang="ts">
import type { DemandKind } from '../demands'

export const kind: DemandKind = {
  title: 'at times of day',
  place: 3,
  fresh: () => ({ schedule: { windows: [{ start: { base: 'clock', minutes: 480 }, for_ms: 3600_000 }] } }),
}
</script>

<script setup lang="ts">
import { computed } from 'vue'
import type { Demand } from '../api'
import MomentFields from '../components/deciding/MomentFields.vue'
import ScheduleExtras from '../components/deciding/ScheduleExtras.vue'
import SpanField from '../components/deciding/SpanField.vue'
import { filled } from '../form'
const d = defineModel<Demand>({ required: true })
const put = (part: Partial<Demand>) => (d.value = filled({ ...d.value, ...part }))
type Window = NonNullable<NonNullable<Demand['schedule']>['windows']>[number]
const windows = computed(() => d.value.schedule?.windows ?? [])
function setWindows(list: Window[]) {
  const schedule = { ...d.value.schedule, windows: list }
  if (!list.length) delete (schedule as Partial<typeof schedule>).windows
  put({ schedule })
}
const setWindow = (i: number, part: Partial<Window>) =>
  setWindows(
    windows.value.map((w, j) => {
      if (j !== i) return w
      const next = { ...w, ...part } as Record<string, unknown>
      for (const [k, v] of Object.entries(next)) if (v === undefined) delete next[k]
      return next as Window
    }),
  )
const dayNames = ['Mon', 'Tue', 'Wed', 'Thu', 'Fri', 'Sat', 'Sun']
function toggleDay(i: number, day: number) {
  const have = windows.value[i]!.days ?? [1, 2, 3, 4, 5, 6, 7]
  const next = have.includes(day) ? have.filter((x) => x !== day) : [...have, day].sort()
  setWindow(i, { days: next.length === 7 || !next.length ? undefined : next })
}
</script>

<template>
  <div v-for="(w, i) in windows" :key="i" class="fields window">
    <MomentFields label="Starts" :model-value="w.start" @update:model-value="(start) => setWindow(i, { start })" />
    <label
      ><span class="soft small-text">Then</span
      ><select
        class="form-select form-select-sm"
        :value="w.end ? 'end' : 'for'"
        @change="
          ($event.target as HTMLSelectElement).value === 'end'
            ? setWindow(i, { end: { base: 'clock', minutes: 1080 }, for_ms: undefined })
            : setWindow(i, { end: undefined, for_ms: 3600000 })
        ">
        <option value="for">for a time</option>
        <option value="end">until</option>
      </select></label
    >
    <MomentFields v-if="w.end" label="Ends" :model-value="w.end" @update:model-value="(end) => setWindow(i, { end })" />
    <SpanField v-else label="For" :model-value="w.for_ms" @update:model-value="(v) => setWindow(i, { for_ms: v })" />
    <label class="short"
      ><span class="soft small-text">Times a day</span
      ><input
        class="form-control form-control-sm"
        type="number"
        min="1"
        max="500"
        :value="w.times ?? 1"
        @input="
          Number(($event.target as HTMLInputElement).value) > 1
            ? setWindow(i, { times: Number(($event.target as HTMLInputElement).value), every_ms: w.every_ms ?? 3600000 })
            : setWindow(i, { times: undefined, every_ms: undefined })
        "
    /></label>
    <SpanField v-if="w.times" label="Every" :model-value="w.every_ms" @update:model-value="(v) => setWindow(i, { every_ms: v })" />
    <div class="days" role="group" aria-label="Days">
      <button
        v-for="(name, k) in dayNames"
        :key="name"
        type="button"
        :aria-pressed="!w.days || w.days.includes(k + 1)"
        :class="{ chosen: !w.days || w.days.includes(k + 1) }"
        @click="toggleDay(i, k + 1)">
        {{ name }}
      </button>
    </div>
    <button
      v-if="windows.length + (d.schedule?.once?.length ?? 0) > 1"
      type="button"
      class="btn btn-outline-secondary btn-sm"
      @click="setWindows(windows.filter((_, j) => j !== i))">
      Remove
    </button>
  </div>
  <div>
    <button
      type="button"
      class="btn btn-outline-secondary btn-sm"
      @click="setWindows([...windows, { start: { base: 'clock', minutes: 1080 }, for_ms: 3600000 }])">
      One more time
    </button>
  </div>
  <ScheduleExtras :model-value="d.schedule ?? {}" @update:model-value="(schedule) => put({ schedule })" />
</template>

<style scoped>
.window + .window {
  border-top: 1px dashed var(--line);
  padding-top: 8px;
}
.days {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
}
.days button {
  border: 1px solid var(--line);
  background: var(--sheet);
  color: var(--soft);
  border-radius: 8px;
  min-height: 34px;
  padding: 0 8px;
  font-size: 0.8125rem;
}
.days .chosen {
  background: var(--ink);
  color: var(--sheet);
  border-color: var(--ink);
}
@media (max-width: 820px) {
  .days button {
    min-height: 44px;
  }
}
</style>
