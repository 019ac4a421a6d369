<script setup lang="ts">
// Filled with a halo: on. Hollow: off. Turning ring: waiting. Dashed: not to be relied on.
defineProps<{ tone: 'on' | 'off' | 'wait' | 'warn'; lit: boolean }>()
</script>

<template>
  <svg class="lamp" viewBox="0 0 24 24" width="24" height="24" aria-hidden="true">
    <circle v-if="lit && tone !== 'warn'" cx="12" cy="12" r="10.5" fill="var(--ember-soft)" />
    <circle
      cx="12"
      cy="12"
      r="6"
      :fill="lit ? 'var(--ember)' : 'none'"
      :stroke="lit ? 'var(--ember)' : 'var(--soft)'"
      stroke-width="1.4"
      :stroke-dasharray="tone === 'warn' ? '2.6 2.2' : undefined"
      :fill-opacity="tone === 'warn' ? 0.35 : 1" />
    <circle
      v-if="tone === 'wait'"
      class="turning"
      cx="12"
      cy="12"
      r="10"
      fill="none"
      stroke="var(--data)"
      stroke-width="1.6"
      stroke-dasharray="40 23" />
  </svg>
</template>

<style scoped>
.lamp {
  flex: none;
}
.turning {
  transform-origin: 12px 12px;
  animation: turn 2.4s linear infinite;
}
@keyframes turn {
  to {
    transform: rotate(360deg);
  }
}
</style>
