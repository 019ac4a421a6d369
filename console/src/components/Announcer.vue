<script setup lang="ts">
// Tells a screen reader how the value goes on that one rests on. All of them at once would be noise.
import { useEventListener } from '@vueuse/core'
import { onUnmounted, ref, watch } from 'vue'
import { useHub } from '../hub'
import { shownUnit, shownValue } from '../units'

const hub = useHub()
const rests = ref('')
const said = ref('')
const pause = 5000 // between two announcements
let soon = 0
function focus(e: FocusEvent) {
  rests.value = (e.target as HTMLElement).closest<HTMLElement>('[data-signal]')?.dataset.signal ?? ''
}
useEventListener(document, 'focusin', focus)
onUnmounted(() => window.clearTimeout(soon))
function say() {
  soon = 0
  const s = hub.signals[rests.value]
  if (s) said.value = `${s.config.name} ${shownValue(s.state.value, s.config.unit, s.config.decimals)} ${shownUnit(s.config.unit)}`
}
watch(rests, () => {
  window.clearTimeout(soon)
  soon = 0
}) // what it rests on now is read out as it gets there
watch(
  () => hub.signals[rests.value]?.state.value,
  (now, before) => {
    if (before !== undefined && now !== before) soon ||= window.setTimeout(say, pause)
  },
)
</script>

<template>
  <div class="visually-hidden" aria-live="polite">{{ said }}</div>
</template>
