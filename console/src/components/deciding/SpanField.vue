<script setup lang="ts">
// A length of time, kept in milliseconds, written as 90 s, 20 min or 2 h.
import { computed, ref, watch } from 'vue'

const props = defineProps<{ label: string; hint?: string }>()
const model = defineModel<number | undefined>({ required: true })
const units = [
  { text: 's', ms: 1000 },
  { text: 'min', ms: 60_000 },
  { text: 'h', ms: 3600_000 },
  { text: 'days', ms: 86400_000 },
]
const best = (ms: number) => [...units].reverse().find((u) => ms >= u.ms && ms % u.ms === 0) ?? units[0]!
const unit = ref(model.value ? best(model.value).ms : 60_000)
watch(model, (v) => {
  if (v && v % unit.value) unit.value = best(v).ms
})
const amount = computed({
  get: () => (model.value === undefined || model.value === 0 ? '' : String(model.value / unit.value)),
  set: (v) => (model.value = String(v) === '' ? undefined : Math.round(Number(v) * unit.value)),
})
function change(e: Event) {
  const n = amount.value
  unit.value = Number((e.target as HTMLSelectElement).value)
  amount.value = n
}
</script>

<template>
  <label class="span"
    ><span class="soft small-text">{{ props.label }}</span>
    <span class="pair"
      ><input
        v-model="amount"
        class="form-control form-control-sm"
        type="number"
        min="0"
        step="any"
        :placeholder="hint ?? 'none'"
        :aria-label="props.label" />
      <select class="form-select form-select-sm" :value="unit" :aria-label="`${props.label}, unit`" @change="change">
        <option v-for="u in units" :key="u.ms" :value="u.ms">{{ u.text }}</option>
      </select></span
    >
  </label>
</template>

<style scoped>
.span {
  flex: 0 1 170px;
}
.span > span:first-child {
  display: block;
}
.pair {
  display: flex;
  gap: 4px;
}
.pair input {
  min-width: 0;
  flex: 1;
}
.pair select {
  width: 78px;
}
</style>
