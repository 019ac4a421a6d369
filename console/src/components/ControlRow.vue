<script setup lang="ts">
import { computed } from 'vue'
import type { Control } from '../api'
import type { Runs } from '../day'
import { controlState } from '../format'
import { useHub } from '../hub'
import Lamp from './Lamp.vue'
import Position from './Position.vue'
import RunStrip from './RunStrip.vue'

const props = defineProps<{ control: Control; runs?: Runs; from: number; to: number }>()
const hub = useHub()
const state = computed(() => controlState(props.control, hub.now))
const reason = computed(() => {
  const c = props.control
  const lines = []
  if (c.reason) lines.push(c.reason.charAt(0).toUpperCase() + c.reason.slice(1) + '.')
  if (!c.has_lease) lines.push('This board keeps its last state when the hub is silent.')
  return lines.join(' ')
})
</script>

<template>
  <div class="control" :data-control="control.id">
    <Lamp :tone="state.tone" :lit="control.is === true" />
    <div class="words">
      <div><strong>{{ control.name }}</strong> <span class="state" :class="state.tone" role="status">{{ state.words }}</span></div>
      <div class="soft small-text">{{ reason }}</div>
    </div>
    <Position class="place-of-switch" :control="control" />
    <RouterLink class="day" :to="{ name: 'charts', query: { s: control.id + '.is' } }" :aria-label="`History of ${control.name}`">
      <RunStrip :runs="runs" :from="from" :to="to" :what="control.name" />
    </RouterLink>
  </div>
</template>

<style scoped>
.control { display: grid; grid-template-columns: 26px minmax(0, 1fr) auto; gap: 4px 12px; align-items: center; padding: 12px 18px 14px; }
.words { min-width: 0; }
.state { font-weight: 500; margin-left: 6px; color: var(--soft); }
.state.on { color: var(--ember); }
.state.warn { color: var(--warn); }
.day { grid-column: 2 / 4; padding: 8px 0 4px; }
@media (max-width: 520px) {
  .control { padding: 12px 14px; }
  .place-of-switch { grid-column: 2 / 4; margin-top: 6px; }
}
</style>
