<script setup lang="ts">
// A place as a whole: all of its signals and controls, what is written down about it, and its notes of the last month.
import { computed, onMounted, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, sentence, type Remark } from '../api'
import ChartNotes from '../components/ChartNotes.vue'
import PlaceCard from '../components/PlaceCard.vue'
import PlaceSheet from '../components/PlaceSheet.vue'
import { useDay } from '../day'
import { useHub, useOnly } from '../hub'

const hub = useHub()
const id = String(useRoute().params.id)
const { traces, runs, to, span } = useDay()
const place = computed(() => hub.places.find((p) => p.id === id))
const sheet = computed(() => ({
  place: place.value!,
  signals: Object.values(hub.signals)
    .filter((s) => s.state.place === id && !hub.devices[s.config.device]?.config.state)
    .sort((a, b) => a.config.id.localeCompare(b.config.id)),
  controls: Object.values(hub.controls)
    .filter((c) => c.state.place === id && !hub.devices[c.config.device]?.config.state)
    .sort((a, b) => a.config.id.localeCompare(b.config.id)),
  devices: Object.values(hub.devices).filter((d) => d.config.place === id && !d.config.state),
  settings: Object.values(hub.settings).filter((s) => s.state.place === id),
}))
const numbers = computed(() =>
  [
    ...sheet.value.signals.filter((s) => s.config.kind === 'number').map((s) => s.config.id),
    ...sheet.value.controls.map((c) => c.config.id + '.is'),
  ].slice(0, 8),
)
useOnly(() => sheet.value.signals.map((s) => s.config.id))
const notes = ref<Remark[]>([])
const known = ref(false)
const failed = ref('')
const month = 30 * 86_400_000
async function load() {
  if (!hub.member) return
  try {
    const list = await ask(api.GET('/notes', { params: { query: { from: new Date(Date.now() - month).toISOString() } } }))
    const mine = new Set([
      id,
      ...Object.values(hub.devices)
        .filter((d) => d.config.place === id)
        .map((d) => d.config.id),
    ])
    known.value = true
    notes.value = list.filter((n) => mine.has(n.object.split('.')[0]!))
  } catch (e) {
    failed.value = sentence(e)
  }
}
onMounted(load)
</script>

<template>
  <main class="page stack">
    <template v-if="place">
      <div class="between">
        <h1>{{ place.name }}</h1>
        <RouterLink
          v-if="numbers.length"
          class="btn btn-outline-secondary no-print"
          :to="{ name: 'charts', query: { s: numbers.join(',') } }"
          >All in one chart</RouterLink
        >
      </div>
      <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
      <div class="two">
        <PlaceSheet v-bind="sheet" :traces="traces" :runs="runs" :from="to - span" :to="to" whole />
        <div class="stack">
          <PlaceCard :place="place" />
          <ChartNotes v-if="hub.member" :notes="notes" :known="known" :places="[place]" :at="to" @changed="load" />
        </div>
      </div>
    </template>
    <section v-else class="sheet">
      <h1>{{ hub.loaded ? 'There is no such place' : 'Asking the hub …' }}</h1>
      <RouterLink to="/">Now</RouterLink>
    </section>
  </main>
</template>

<style scoped>
.two {
  display: grid;
  gap: 18px;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  align-items: start;
}
@media (max-width: 820px) {
  .two {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
