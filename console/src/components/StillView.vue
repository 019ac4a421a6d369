<script setup lang="ts">
// What a device sees: the newest picture with its age, and one of now for whoever asks.
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { api, ask, sentence, type Still } from '../api'
import { dayText, length } from '../format'
import { onStill, useHub } from '../hub'

const props = defineProps<{ device: string; all?: boolean }>()
const hub = useHub()
const list = ref<Still[] | null>(null)
const shown = ref(0) // of the list
const failed = ref('')
const busy = ref(false)
const path = { params: { path: { id: props.device } } }
async function load() {
  try {
    list.value = await ask(api.GET('/devices/{id}/stills', { params: { ...path.params, query: { limit: props.all ? 24 : 1 } } }))
    shown.value = 0
    failed.value = ''
  } catch (e) {
    failed.value = sentence(e)
  }
}
onMounted(load)
const stop = onStill((s) => {
  if (s.device === props.device) void load()
})
onUnmounted(stop)
async function look() {
  busy.value = true
  failed.value = ''
  try {
    await ask(api.POST('/devices/{id}/stills', path))
    await load()
  } catch (e) {
    failed.value = sentence(e)
  } finally {
    busy.value = false
  }
}
const it = computed(() => list.value?.[shown.value])
const at = (s: Still) => dayText(Date.parse(s.at), hub.zone)
const name = computed(() => hub.devices[props.device]?.config.name ?? props.device)
</script>

<template>
  <div class="still">
    <img v-if="it" :src="`/api/v1/stills/${it.id}`" :alt="`What ${name} saw at ${at(it)}`" />
    <p v-else-if="list && !failed" class="soft small-text mb-0">
      No picture yet. One is taken when an alert comes, or when somebody looks.
    </p>
    <div class="under">
      <span class="soft small-text" role="status">{{
        failed ||
        (it
          ? `${length(Math.max(0, hub.minute - hub.offset - Date.parse(it.at)))} ago${it.alert ? `, for ${hub.alerts[it.alert]?.config.name ?? it.alert}` : ''}`
          : '')
      }}</span>
      <button v-if="!hub.wall" type="button" class="btn btn-outline-secondary btn-sm" :disabled="busy || hub.link !== 'live'" @click="look">
        {{ busy ? 'Looking …' : 'Look now' }}
      </button>
    </div>
    <div v-if="all && (list?.length ?? 0) > 1" class="earlier" role="group" aria-label="Earlier pictures">
      <button v-for="(s, i) in list" :key="s.id" type="button" :aria-pressed="i === shown" :aria-label="at(s)" @click="shown = i">
        <img :src="`/api/v1/stills/${s.id}`" alt="" loading="lazy" />
      </button>
    </div>
  </div>
</template>

<style scoped>
.still {
  display: grid;
  gap: 8px;
  min-height: 0;
}
.still > img {
  width: 100%;
  min-height: 0;
  object-fit: contain;
  border-radius: 8px;
  background: var(--paper);
}
.still.fills {
  height: 100%;
  grid-template-rows: minmax(0, 1fr) auto;
}
.still.fills > img {
  height: 100%;
}
.under {
  display: flex;
  justify-content: space-between;
  align-items: center;
  gap: 10px;
}
.earlier {
  display: flex;
  gap: 6px;
  overflow-x: auto;
}
.earlier button {
  flex: 0 0 84px;
  padding: 2px;
  border: 2px solid transparent;
  background: none;
  border-radius: 8px;
}
.earlier button[aria-pressed='true'] {
  border-color: var(--ember);
}
.earlier img {
  width: 100%;
  display: block;
  border-radius: 5px;
}
</style>
