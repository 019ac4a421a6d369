<script setup lang="ts">
// What this browser lets the console do here, and why not what it does not.
import { useEventListener } from '@vueuse/core'
import { computed, ref } from 'vue'
import type { HubInfo } from '../api'
import PushSwitch from './PushSwitch.vue'

const props = defineProps<{ info: HubInfo | null }>()
const secure = window.isSecureContext
const installed = matchMedia('(display-mode: standalone)').matches
const offered = ref<(Event & { prompt: () => Promise<unknown> }) | null>(null)
const keep = (e: Event) => {
  e.preventDefault()
  offered.value = e as Event & { prompt: () => Promise<unknown> }
}
useEventListener(window, 'beforeinstallprompt', keep)
const port = computed(() => props.info?.state.https?.split(':').at(-1))
const address = computed(() => `https://${location.hostname}:${port.value}`)
const needs = [
  ['Installing the console as an app, and opening it while the hub is away', secure && 'serviceWorker' in navigator],
  ['Keeping a wall awake', secure && 'wakeLock' in navigator],
  ['Copying by a button', secure && !!navigator.clipboard],
] as const
const missing = needs.filter(([, has]) => !has).map(([what]) => what)
</script>

<template>
  <section class="sheet" aria-label="This browser">
    <h2 class="mb-2">This browser</h2>
    <p v-if="!secure" class="note small-text">
      <span
        >The console came over plain HTTP. Everything works but what browsers then forbid:
        {{ missing.map((m) => m.charAt(0).toLowerCase() + m.slice(1)).join('; ') }}.
        <template v-if="info?.state.https"
          >Have the device trust the <a href="/ca.pem" download="idle-ember-ca.pem">hub’s own certificate</a> once, then open
          <a :href="address">{{ address }}</a>.</template
        >
        <template v-else-if="info">Start the hub with <code>--https :8443</code> to have them.</template></span
      >
    </p>
    <p v-else-if="missing.length" class="soft small-text mb-0">It does not know: {{ missing.join('; ') }}.</p>
    <p v-else class="soft small-text mb-2">
      {{
        installed
          ? 'The console is installed here.'
          : 'It lets the console do everything: be installed, open while the hub is away, keep a wall awake, copy.'
      }}
    </p>
    <PushSwitch v-if="secure" />
    <button v-if="offered" type="button" class="btn btn-outline-secondary btn-sm" @click="offered!.prompt()">Install it here</button>
  </section>
</template>
