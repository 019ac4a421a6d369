<script setup lang="ts">
// Single runs of a schedule, and days on which it rests. Times are those of the hub's zone.
import { computed, ref } from 'vue'
import type { Schedule } from '../../api'
import { useHub } from '../../hub'
import { zonedInstant, zonedText } from '../../zoned'
import SpanField from './SpanField.vue'

const model = defineModel<Schedule>({ required: true })
const hub = useHub()
const zone = computed(() => hub.zone)
const once = computed(() => model.value.once ?? [])
const except = computed(() => model.value.except ?? [])
const day = ref('')
function put(part: Partial<Schedule>) {
  const next = { ...model.value, ...part }
  if (!next.once?.length) delete next.once
  if (!next.except?.length) delete next.except
  if (!next.windows?.length) delete next.windows
  model.value = next
}
const setOnce = (i: number, part: Partial<(typeof once.value)[number]>) =>
  put({ once: once.value.map((o, j) => (j === i ? { ...o, ...part } : o)) })
function setAt(i: number, text: string) {
  const at = zonedInstant(text, zone.value)
  if (!Number.isNaN(at)) setOnce(i, { at: new Date(at).toISOString() })
}
function add() {
  put({ once: [...once.value, { at: new Date(Math.ceil((hub.now + 3600_000) / 900_000) * 900_000).toISOString(), for_ms: 3600_000 }] })
}
function rest() {
  if (day.value && !except.value.includes(day.value)) put({ except: [...except.value, day.value].sort() })
  day.value = ''
}
</script>

<template>
  <div class="stack tight">
    <div v-for="(o, i) in once" :key="i" class="fields">
      <label
        ><span class="soft small-text">Once at</span
        ><input
          class="form-control form-control-sm"
          type="datetime-local"
          required
          :value="zonedText(Date.parse(o.at), zone)"
          @change="setAt(i, ($event.target as HTMLInputElement).value)"
      /></label>
      <SpanField label="For" :model-value="o.for_ms" @update:model-value="(v) => setOnce(i, { for_ms: v ?? 0 })" />
      <button
        type="button"
        class="btn btn-outline-secondary btn-sm"
        :aria-label="`Remove single run ${i + 1}`"
        @click="put({ once: once.filter((_, j) => j !== i) })">
        Remove
      </button>
    </div>
    <ul v-if="except.length" class="off" aria-label="Days without">
      <li v-for="d in except" :key="d">
        not on {{ d }}
        <button type="button" :aria-label="`Run on ${d} again`" @click="put({ except: except.filter((x) => x !== d) })">×</button>
      </li>
    </ul>
    <div class="fields">
      <button type="button" class="btn btn-outline-secondary btn-sm" @click="add">A single run</button>
      <label
        ><span class="soft small-text">A day without</span
        ><input v-model="day" class="form-control form-control-sm" type="date" @change="rest"
      /></label>
    </div>
  </div>
</template>

<style scoped>
.off {
  list-style: none;
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  margin: 0;
  padding: 0;
}
.off li {
  border: 1px solid var(--line);
  border-radius: 8px;
  padding: 2px 4px 2px 8px;
  font-size: 0.8125rem;
}
.off button {
  border: 0;
  background: none;
  color: var(--soft);
  min-width: 32px;
  min-height: 32px;
}
</style>
