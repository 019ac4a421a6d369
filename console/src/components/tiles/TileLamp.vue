<script setup lang="ts">
import { computed } from 'vue'
import { amountText, controlState, runs, signalAge, valueText } from '../../format'
import { useHub } from '../../hub'
import Lamp from '../Lamp.vue'

const props = defineProps<{ of: string; name?: string }>()
const hub = useHub()
const c = computed(() => hub.controls[props.of])
const s = computed(() => hub.signals[props.of])
const old = computed(() => hub.link === 'lost' || (s.value ? s.value.state.fresh !== 'live' : false))
const state = computed(() => {
  if (c.value)
    return hub.link === 'lost' && c.value.state.is !== undefined
      ? { words: `${amountText(c.value, c.value.state.is)} when last heard`, tone: 'warn' as const }
      : controlState(c.value, hub.now)
  const v = s.value?.state.value
  const age = s.value ? signalAge(s.value, hub.now) : ''
  return {
    words: valueText(v, s.value?.config.decimals) + (age ? `, ${age}` : ''),
    tone: old.value ? ('warn' as const) : v === true || (typeof v === 'number' && v > 0) ? ('on' as const) : ('off' as const),
  }
})
const lit = computed(() =>
  c.value ? runs(c.value.state.is) : s.value?.state.value === true || (typeof s.value?.state.value === 'number' && s.value.state.value > 0),
)
</script>

<template>
  <div class="lamp-line">
    <Lamp :tone="state.tone" :lit="lit" />
    <div class="min-w-0">
      <strong v-if="name">{{ name }}</strong> <span class="state" :class="state.tone">{{ state.words }}</span>
    </div>
  </div>
</template>

<style scoped>
.lamp-line {
  display: flex;
  gap: 10px;
  align-items: center;
  min-width: 0;
  overflow-wrap: anywhere;
}
.state {
  color: var(--soft);
}
.state.on {
  color: var(--ember);
}
.state.warn {
  color: var(--warn);
}
</style>
