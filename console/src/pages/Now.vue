<script setup lang="ts">
import { computed } from 'vue'
import Icon from '../components/Icon.vue'
import PlaceSheet from '../components/PlaceSheet.vue'
import PresetBar from '../components/PresetBar.vue'
import { useDay } from '../day'
import { useHub } from '../hub'

const hub = useHub()
const { traces, runs, to, span } = useDay()

// Settings that a control aims at stand beside it; the others have a row of their own.
const aimed = computed(() => Object.values(hub.controls).flatMap((c) => c.settings ?? []))
const sheets = computed(() =>
  hub.places
    .map((place) => ({
      place,
      signals: Object.values(hub.signals).filter((s) => s.place === place.id && takesPart(s.device)).sort(order),
      controls: Object.values(hub.controls).filter((c) => c.place === place.id && takesPart(c.device) && !c.moved_by).sort((a, b) => a.id.localeCompare(b.id)),
      devices: Object.values(hub.devices).filter((d) => d.place === place.id && !d.state),
      settings: Object.values(hub.settings).filter((s) => s.place === place.id && !aimed.value.includes(s.config.id)),
    }))
    .filter((s) => s.devices.length || s.signals.length || s.controls.length),
)

// What was disabled or removed is not of now. A guest may see a signal without its device.
function takesPart(device: string) {
  return !hub.devices[device]?.state
}

// Temperatures first, numbers before lamps, words last.
function order(a: { unit: string; kind: string; id: string }, b: { unit: string; kind: string; id: string }) {
  const rank = (s: { unit: string; kind: string }) => (s.unit === 'Cel' ? 0 : s.kind === 'number' ? 1 : s.kind === 'onoff' ? 2 : 3)
  return rank(a) - rank(b) || a.id.localeCompare(b.id)
}

const unconfirmed = computed(() => Object.values(hub.controls).filter((c) => c.phase === 'unconfirmed' && !c.momentary))
const noEffect = computed(() => Object.values(hub.controls).filter((c) => c.proof === 'missing'))
</script>

<template>
  <main class="page">
    <h1 class="visually-hidden">Now</h1>
    <div v-if="unconfirmed.length" class="note mb-3" role="status">
      <Icon name="bell" :size="20" />
      <div>
        <strong>{{ unconfirmed.map((c) => c.name).join(', ') }}: not confirmed</strong>
        <span class="small-text">{{ unconfirmed.some((c) => c.online) ? 'The board has not said that it switched. The hub keeps sending.' : 'The board is offline and gets it when it is back.' }}</span>
      </div>
    </div>

    <div v-if="noEffect.length" class="note mb-3" role="status">
      <Icon name="bell" :size="20" />
      <div><strong>{{ noEffect.map((c) => c.name).join(', ') }}: no effect</strong><span class="small-text">{{ noEffect.length === 1 ? noEffect[0]!.reason : 'They are switched on, and what they should bring about is not seen.' }}</span></div>
    </div>
    <PresetBar />

    <div v-if="!hub.loaded" class="soft p-5 text-center" aria-busy="true">Asking the hub …</div>
    <section v-else-if="!sheets.length" class="sheet empty">
      <svg viewBox="0 0 120 60" width="120" height="60" aria-hidden="true"><path d="M4 44h22l8-22 12 30 10-18 8 10h52" fill="none" stroke="var(--line)" stroke-width="2.4" stroke-linejoin="round" /><circle cx="116" cy="44" r="3.6" fill="var(--ember)" /></svg>
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
    <div v-else class="sheets">
      <PlaceSheet v-for="s in sheets" :key="s.place.id" v-bind="s" :traces="traces" :runs="runs" :from="to - span" :to="to" />
    </div>
  </main>
</template>

<style scoped>
.sheets { display: grid; gap: 18px; grid-template-columns: minmax(0, 1fr); align-items: start; }
@media (min-width: 821px) { .sheets:has(> :nth-child(2)) { grid-template-columns: repeat(2, minmax(0, 1fr)); } }
.empty { text-align: center; padding: 48px 20px; display: grid; justify-items: center; gap: 10px; }
.empty p { max-width: 40ch; }
</style>
