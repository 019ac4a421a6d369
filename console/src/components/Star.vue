<script setup lang="ts">
// Makes a signal or control a favourite of the person who is signed in, or none.
import { computed, ref } from 'vue'
import { sentence } from '../api'
import { useHub } from '../hub'

const props = defineProps<{ id: string; name: string }>()
const hub = useHub()
const failed = ref('')
const busy = ref(false)
const on = computed(() => hub.preferences.favourites?.includes(props.id) ?? false)
async function tap() {
  failed.value = ''
  busy.value = true
  await hub.favour(props.id, !on.value).catch((e: unknown) => (failed.value = sentence(e)))
  busy.value = false
}
</script>

<template>
  <button
    type="button"
    class="btn btn-outline-secondary"
    :aria-pressed="on"
    :title="failed"
    :disabled="busy || !hub.preferencesKnown"
    @click="tap">
    {{ busy ? 'One moment …' : on ? 'A favourite' : 'Make it a favourite' }}
  </button>
</template>
