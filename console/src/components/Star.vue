<script setup lang="ts">
// Makes a signal or control a favourite of the person who is signed in, or none.
import { computed, ref } from 'vue'
import { sentence } from '../api'
import { useHub } from '../hub'

const props = defineProps<{ id: string; name: string }>()
const hub = useHub()
const failed = ref('')
const on = computed(() => hub.preferences.favourites?.includes(props.id) ?? false)
async function tap() {
  failed.value = ''
  await hub.favour(props.id).catch((e: unknown) => (failed.value = sentence(e)))
}
</script>

<template>
  <button type="button" class="btn btn-outline-secondary" :aria-pressed="on" :title="failed" @click="tap">{{ on ? 'A favourite' : 'Make it a favourite' }}</button>
</template>
