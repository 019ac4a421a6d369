<script setup lang="ts">
import { useEventListener } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import type { Signal } from '../api'
import Attention from '../components/Attention.vue'
import PlaceSheet from '../components/PlaceSheet.vue'
import PresetBar from '../components/PresetBar.vue'
import { useDay } from '../day'
import { useHub } from '../hub'

const hub = useHub()
const { traces, runs, to, span } = useDay()

// Settings that a control aims at stand beside it; the others have a row of their own.
const aimed = computed(() => Object.values(hub.controls).flatMap((c) => c.state.settings ?? []))
const sheets = computed(() =>
  hub.places
    .map((place) => ({
      place,
      signals: Object.values(hub.signals)
        .filter((s) => s.state.place === place.id && takesPart(s.config.device))
        .sort(order),
      controls: Object.values(hub.controls)
        .filter((c) => c.state.place === place.id && takesPart(c.config.device) && !c.state.moved_by)
        .sort((a, b) => a.config.id.localeCompare(b.config.id)),
      devices: Object.values(hub.devices).filter((d) => d.config.place === place.id && !d.config.state),
      settings: Object.values(hub.settings).filter((s) => s.state.place === place.id && !aimed.value.includes(s.config.id)),
    }))
    .filter((s) => s.devices.length || s.signals.length || s.controls.length),
)

// What was disabled or removed is not of now. A guest may see a signal without its device.
function takesPart(device: string) {
  return !hub.devices[device]?.config.state
}

// Temperatures first, numbers before lamps, words last.
function order({ config: a }: Signal, { config: b }: Signal) {
  const rank = (s: Signal['config']) => (s.unit === 'Cel' ? 0 : s.kind === 'number' ? 1 : s.kind === 'onoff' ? 2 : 3)
  return rank(a) - rank(b) || a.id.localeCompare(b.id)
}

// One's favourites have a sheet of their own, before the places.
const favourites = computed(() => {
  const ids = hub.preferences.favourites ?? []
  const signals = ids.flatMap((id) => (hub.signals[id] && takesPart(hub.signals[id].config.device) ? [hub.signals[id]] : []))
  const controls = ids.flatMap((id) => (hub.controls[id] && takesPart(hub.controls[id].config.device) ? [hub.controls[id]] : []))
  return signals.length + controls.length ? [{ place: { id: '', name: 'Favourites' }, signals, controls, devices: [], settings: [] }] : []
})

// The first places are there at once, the others as soon as the browser has time for them.
const upTo = ref(window.innerWidth < 821 ? 1 : 4)
const idle = 'requestIdleCallback' in window ? window.requestIdleCallback : (f: () => void) => window.setTimeout(f, 50)
watch(
  [upTo, () => sheets.value.length],
  () => {
    if (upTo.value < sheets.value.length + 1) idle(() => (upTo.value += 2))
  },
  { immediate: true },
)

const sought = ref('')
const field = ref<HTMLInputElement>()
const shown = computed(() => {
  const word = sought.value.trim().toLowerCase()
  if (!word) return [...favourites.value, ...sheets.value]
  const fits = (...texts: string[]) => texts.some((t) => t.toLowerCase().includes(word))
  return sheets.value
    .map((s) =>
      fits(s.place.name)
        ? s
        : {
            ...s,
            signals: s.signals.filter((x) => fits(x.config.name, x.config.id)),
            controls: s.controls.filter((x) => fits(x.config.name, x.config.id)),
            settings: s.settings.filter((x) => fits(x.config.name, x.config.id)),
          },
    )
    .filter((s) => fits(s.place.name) || s.signals.length || s.controls.length || s.settings.length)
})
function keys(e: KeyboardEvent) {
  if (e.key === '/' && !(e.target as HTMLElement).closest?.('input, select, textarea, [role=dialog]') && !e.ctrlKey && !e.metaKey) {
    e.preventDefault()
    field.value?.focus()
  }
}
useEventListener(document, 'keydown', keys)
</script>

<template>
  <main class="page">
    <h1 class="visually-hidden">Now</h1>
    <Attention />
    <div class="top">
      <PresetBar />
      <input
        v-if="sheets.length"
        ref="field"
        v-model="sought"
        type="search"
        class="form-control search mb-3 no-print"
        placeholder="Search"
        aria-label="Search"
        @keydown.esc="sought = ''" />
    </div>

    <div v-if="!hub.loaded" class="soft p-5 text-center" aria-busy="true">Asking the hub …</div>
    <section v-else-if="!sheets.length" class="sheet empty">
      <svg viewBox="0 0 120 60" width="120" height="60" aria-hidden="true">
        <path d="M4 44h22l8-22 12 30 10-18 8 10h52" fill="none" stroke="var(--line)" stroke-width="2.4" stroke-linejoin="round" />
        <circle cx="116" cy="44" r="3.6" fill="var(--ember)" />
      </svg>
      <template v-if="hub.owner">
        <h2>Nothing here yet</h2>
        <p class="soft">Add a first device. Its readings and switches appear here by themselves as soon as it sends them.</p>
        <RouterLink class="btn btn-primary" :to="{ name: 'add-device' }">Add a device</RouterLink>
      </template>
      <template v-else>
        <h2>Nothing to see yet</h2>
        <p class="soft">An owner of this hub decides what you see here.</p>
      </template>
    </section>
    <p v-else-if="!shown.length" class="soft">Nothing here is called “{{ sought }}”.</p>
    <div v-else class="sheets">
      <PlaceSheet v-for="s in shown.slice(0, upTo)" :key="s.place.id" v-bind="s" :traces="traces" :runs="runs" :from="to - span" :to="to" />
    </div>
  </main>
</template>

<style scoped>
.sheets {
  display: grid;
  gap: 18px;
  grid-template-columns: minmax(0, 1fr);
  align-items: start;
}
@media (min-width: 821px) {
  .sheets:has(> :nth-child(2)) {
    grid-template-columns: repeat(2, minmax(0, 1fr));
  }
}
.top {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  gap: 0 18px;
}
.search {
  flex: 1 1 180px;
  max-width: 280px;
}
@media (max-width: 820px) {
  .search {
    max-width: none;
  }
}
.empty {
  text-align: center;
  padding: 48px 20px;
  display: grid;
  justify-items: center;
  gap: 10px;
}
.empty p {
  max-width: 40ch;
}
</style>
