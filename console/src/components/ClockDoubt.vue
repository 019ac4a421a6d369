<script setup lang="ts">
// The clock of the hub's computer is not believed: everybody is told, and the owner can say that it is right by now.
import { ref } from 'vue'
import { api, ask } from '../api'
import { useSend } from '../form'
import { clockText } from '../format'
import { useHub } from '../hub'

defineProps<{ why: string }>()
const hub = useHub()
const { failed, busy, send } = useSend()
const shows = ref('')
const look = () =>
  send(async () => {
    shows.value = (await ask(api.GET('/clock'))).shows
  })
const believe = () =>
  send(async () => {
    const now = await ask(api.PUT('/clock'))
    shows.value = now.doubt ? now.shows : ''
  })
</script>

<template>
  <div class="lost" role="alert">
    Times are not certain: {{ why }}.
    <template v-if="hub.owner">
      <template v-if="shows"
        >It shows
        {{ clockText(Date.parse(shows), hub.zone, { day: 'numeric', month: 'long', year: 'numeric', hour: '2-digit', minute: '2-digit' }) }}
        now.
        <button type="button" class="btn btn-sm btn-outline-secondary" :disabled="busy" @click="believe">That is right</button></template
      >
      <button type="button" class="btn btn-sm btn-outline-secondary" :disabled="busy" @click="look">
        {{ shows ? 'Look again' : 'What does it show now?' }}
      </button>
      <div v-if="failed">{{ failed }}</div>
    </template>
  </div>
</template>
