<script setup lang="ts">
import { computed } from 'vue'
import type { Signal } from '../../api'
import { signalAge } from '../../format'
import { useHub } from '../../hub'
import { shownUnit, shownValue } from '../../units'

const props = defineProps<{ signal: Signal }>()
const hub = useHub()
const age = computed(() => (props.signal.state.fresh === 'live' ? '' : signalAge(props.signal, hub.now)))
const old = computed(() => props.signal.state.fresh !== 'live' || hub.link === 'lost')
</script>

<template>
  <span class="value" :class="{ old, words: signal.config.kind === 'text' }"
    >{{ shownValue(signal.state.value, signal.config.unit, signal.config.decimals)
    }}<small v-if="signal.config.unit">{{ ' ' + shownUnit(signal.config.unit) }}</small>
    <span v-if="age || signal.state.quality !== 'good'" class="age warn-text">{{ age || signal.state.quality }}</span></span
  >
</template>

<style scoped>
.value {
  font-size: var(--big);
  font-weight: 620;
  line-height: 1.15;
  overflow-wrap: anywhere;
  display: block;
}
.value.words {
  font-size: calc(var(--big) * 0.75);
}
.value small {
  font-size: 0.55em;
  font-weight: 450;
  color: var(--soft);
}
.age {
  font-size: 0.75rem;
  font-weight: 600;
  margin-left: 0.5rem;
}
.old {
  color: var(--soft);
}
</style>
