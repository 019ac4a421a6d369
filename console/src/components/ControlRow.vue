<script setup lang="ts">
import { computed, onUnmounted, ref } from 'vue'
import type { Control } from '../api'
import type { Runs } from '../day'
import { controlState, runs as isRunning } from '../format'
import { useHub } from '../hub'
import Lamp from './Lamp.vue'
import Position from './Position.vue'
import RunStrip from './RunStrip.vue'
import Stepper from './Stepper.vue'
import WhyPanel from './WhyPanel.vue'

const props = defineProps<{ control: Control; runs?: Runs; from: number; to: number; where?: string }>()
const hub = useHub()
// What a board did since it went away is not known.
const lost = computed(() =>
  props.control.state.online ? undefined : Date.parse(hub.devices[props.control.config.device]?.state.since ?? '') || undefined,
)
const why = ref(false)
const state = computed(() => controlState(props.control, hub.now))
const settings = computed(() => (props.control.state.settings ?? []).flatMap((id) => hub.settings[id] ?? []))
const reason = computed(() => {
  const c = props.control
  const lines = []
  if (c.state.reason) lines.push(c.state.reason.charAt(0).toUpperCase() + c.state.reason.slice(1) + '.')
  if (!c.state.has_lease && !c.config.momentary && c.config.kind !== 'mover')
    lines.push('This board keeps its last state when the hub is silent.')
  return lines.join(' ')
})
// Holding a finger on the row asks why, as a tap on its reason does.
let held = 0
function press(e: PointerEvent) {
  if ((e.target as Element).closest('input, a, .stepper')) return
  held = window.setTimeout(() => (why.value = true), 600)
}
const release = () => window.clearTimeout(held)
onUnmounted(release)
</script>

<template>
  <div
    class="control"
    :data-control="control.config.id"
    @pointerdown="press"
    @pointerup="release"
    @pointercancel="release"
    @pointerleave="release">
    <Lamp :tone="state.tone" :lit="isRunning(control.state.is)" />
    <div class="words">
      <div>
        <strong>{{ where ? `${where} ${control.config.name.toLowerCase()}` : control.config.name }}</strong>
        {{ ' ' }}<span class="state" :class="state.tone" role="status">{{ state.words }}</span>
      </div>
      <button type="button" class="reason soft small-text" :aria-label="`Why: ${reason || control.config.name}`" @click="why = true">
        {{ reason || 'Why?' }}
      </button>
    </div>
    <div class="place-of-switch">
      <Stepper v-for="s in settings" :key="s.config.id" :setting="s" />
      <Position :control="control" />
    </div>
    <RouterLink
      class="day"
      :to="{ name: 'charts', query: { s: control.config.id + '.is' } }"
      :aria-label="`History of ${control.config.name}`">
      <RunStrip :runs="runs" :from="from" :to="to" :what="control.config.name" :lost="lost" />
    </RouterLink>
    <WhyPanel v-if="why" v-model="why" :control="control" />
  </div>
</template>

<style scoped>
.control {
  display: grid;
  grid-template-columns: 26px minmax(0, 1fr) auto;
  gap: 4px 12px;
  align-items: center;
  padding: 12px 18px 14px;
}
.words {
  min-width: 0;
}
.reason {
  border: 0;
  background: none;
  padding: 0;
  text-align: left;
  overflow-wrap: anywhere;
}
.reason:hover {
  color: var(--ink);
  text-decoration: underline;
  text-decoration-color: var(--line);
  text-underline-offset: 3px;
}
.state {
  font-weight: 500;
  margin-left: 6px;
  color: var(--soft);
}
.state.on {
  color: var(--ember);
}
.state.warn {
  color: var(--warn);
}
.place-of-switch {
  display: flex;
  gap: 10px 14px;
  flex-wrap: wrap;
  justify-content: flex-end;
}
.day {
  grid-column: 2 / 4;
  padding: 8px 0 4px;
}
@media (max-width: 520px) {
  .control {
    padding: 12px 14px;
  }
  .place-of-switch {
    grid-column: 2 / 4;
    margin-top: 6px;
    justify-content: flex-start;
  }
  .reason {
    min-height: 34px;
  }
}
</style>
