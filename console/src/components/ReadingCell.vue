<script setup lang="ts">
import { computed } from 'vue'
import type { Signal } from '../api'
import type { Runs, Trace } from '../day'
import { signalAge } from '../format'
import { useHub } from '../hub'
import LiveValue from './LiveValue.vue'
import RunStrip from './RunStrip.vue'
import Sparkline from './Sparkline.vue'

const props = defineProps<{ signal: Signal; trace?: Trace; runs?: Runs; from: number; to: number; where?: string }>()
const hub = useHub()
const age = computed(() => (props.signal.state.fresh === 'live' ? '' : signalAge(props.signal, hub.now)))
const old = computed(() => props.signal.state.fresh !== 'live' || hub.link === 'lost')
</script>

<template>
  <RouterLink class="reading" :to="{ name: 'charts', query: { s: signal.config.id } }" :class="{ old }" :data-signal="signal.config.id">
    <span class="label"
      ><span class="soft">{{ where ? `${where} ${signal.config.name.toLowerCase()}` : signal.config.name }}</span
      ><span v-if="age" class="age warn-text">{{ age }}</span>
      <span v-else-if="signal.state.quality !== 'good'" class="age warn-text">{{ signal.state.quality }}</span></span
    >
    <span class="value"><LiveValue :signal="signal" /></span>
    <Sparkline v-if="signal.config.kind === 'number'" :trace="trace" :from="from" :to="to" :faded="old" />
    <RunStrip
      v-else-if="signal.config.kind === 'onoff'"
      :runs="runs"
      :from="from"
      :to="to"
      :what="signal.config.name"
      colour="var(--data)" />
  </RouterLink>
</template>

<style scoped>
.reading {
  display: block;
  padding: 0 14px;
  color: inherit;
  text-decoration: none;
  min-width: 0;
}
.label {
  display: flex;
  justify-content: space-between;
  gap: 8px;
  font-size: 0.8125rem;
}
.age {
  font-weight: 600;
  font-size: 0.75rem;
  white-space: nowrap;
}
.value {
  display: block;
  font-size: 1.6rem;
  font-weight: 620;
  line-height: 1.25;
  margin-bottom: 6px;
  overflow-wrap: anywhere;
}
.value :deep(small) {
  font-size: 0.9rem;
  font-weight: 450;
  color: var(--soft);
}
.old .value {
  color: var(--soft);
  font-weight: 500;
}
.reading:hover .value {
  color: var(--ember);
}
@media (max-width: 520px) {
  .label {
    flex-direction: column;
    gap: 0;
  }
}
</style>
