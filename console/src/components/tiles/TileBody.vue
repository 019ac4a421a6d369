<script setup lang="ts">
// What a tile shows. What it is about may be gone or not open to whoever looks; then it says so, and the rest goes on.
import { computed, defineAsyncComponent } from 'vue'
import type { Tile } from '../../api'
import { about } from '../../dashboards'
import type { Runs, Trace } from '../../day'
import { clockText, controlState } from '../../format'
import { doubt } from '../../fresh'
import { useHub } from '../../hub'
import Attention from '../Attention.vue'
import Position from '../Position.vue'
import PresetBar from '../PresetBar.vue'
import Sparkline from '../Sparkline.vue'
import Stepper from '../Stepper.vue'
import StillView from '../StillView.vue'
import TileGauge from './TileGauge.vue'
import TileLamp from './TileLamp.vue'
import TileNotes from './TileNotes.vue'
import TilePicture from './TilePicture.vue'
import TileStrip from './TileStrip.vue'
import TileTimer from './TileTimer.vue'
import TileValue from './TileValue.vue'

const TileChart = defineAsyncComponent(() => import('./TileChart.vue')) // the plots are loaded when one is needed
const props = defineProps<{ tile: Tile; traces: Record<string, Trace>; runs: Record<string, Runs>; from: number; to: number; formulas?: Record<string, string>; wall?: boolean; editing?: boolean; picked?: string }>()
const emit = defineEmits<{ pin: [id: string, x: number, y: number]; pick: [id: string]; elements: [ids: { id: string; what: string }[]] }>()
const hub = useHub()
const first = computed(() => props.tile.of?.[0] ?? '')
const it = computed(() => about(first.value))
const signal = computed(() => hub.signals[first.value])
const control = computed(() => hub.controls[first.value])
const setting = computed(() => hub.settings[first.value])
const state = computed(() => (control.value ? controlState(control.value, hub.now) : null))
const aimed = computed(() => (control.value?.settings ?? []).flatMap((id) => hub.settings[id] ?? []))
const gone = computed(() => first.value !== '' && it.value.kind === 'gone')
const key = (id: string) => (hub.controls[id] ? id + '.is' : id)
</script>

<template>
  <p v-if="gone" class="soft small-text mb-0">There is no {{ first }} here any more, or it is not open to you.</p>
  <template v-else-if="tile.kind === 'value' && signal"><TileValue :signal="signal" /></template>
  <template v-else-if="tile.kind === 'sparkline' && signal"><TileValue :signal="signal" /><Sparkline class="grows" :trace="traces[signal.id]" :from="from" :to="to" :faded="!!doubt(hub, signal.id)" /></template>
  <template v-else-if="tile.kind === 'gauge' && signal"><TileValue :signal="signal" /><TileGauge :tile="tile" :signal="signal" /></template>
  <TileChart v-else-if="tile.kind === 'chart'" :tile="tile" :wall="wall" />
  <TileLamp v-else-if="tile.kind === 'lamp'" :of="first" />
  <template v-else-if="tile.kind === 'control' && control && state">
    <div class="state-line"><TileLamp :of="first" /><span v-if="control.reason" class="soft small-text why">{{ control.reason }}</span></div>
    <div class="hands"><Stepper v-for="s in aimed" :key="s.config.id" :setting="s" /><Position :control="control" /></div>
  </template>
  <Stepper v-else-if="tile.kind === 'setpoint' && setting" :setting="setting" />
  <p v-else-if="tile.kind === 'text'" class="text mb-0">{{ tile.text || 'Write something here.' }}</p>
  <Attention v-else-if="tile.kind === 'alerts'" tile :places="tile.of" />
  <TileStrip v-else-if="tile.kind === 'strip'" :tile="tile" :runs="runs" :from="from" :to="to" />
  <PresetBar v-else-if="tile.kind === 'preset'" :only="first" />
  <TileTimer v-else-if="tile.kind === 'timer'" :tile="tile" :runs="runs[key(first)]" :trace="traces[first]" :to="to" />
  <TileNotes v-else-if="tile.kind === 'notes'" :tile="tile" />
  <TilePicture v-else-if="tile.kind === 'picture'" :tile="tile" :traces="traces" :from="from" :to="to" :formulas="formulas" :editing="editing" :picked="picked"
    @pin="(id, x, y) => emit('pin', id, x, y)" @pick="emit('pick', $event)" @elements="emit('elements', $event)" />
  <StillView v-else-if="tile.kind === 'still'" class="fills" :key="first" :device="first" />
  <div v-else-if="tile.kind === 'clock'" class="clock"><time>{{ clockText(hub.now, hub.zone) }}</time><span class="soft">{{ clockText(hub.now, hub.zone, { weekday: 'long', day: 'numeric', month: 'long' }) }}</span></div>
  <p v-else class="soft small-text mb-0">This tile does not fit what it is about any more; choose another kind for it.</p>
</template>

<style scoped>
.grows { flex: 1 1 auto; min-height: 24px; height: auto; }
.state-line { min-width: 0; }
.why { display: block; overflow-wrap: anywhere; }
.hands { display: flex; flex-wrap: wrap; gap: 8px 12px; align-items: center; }
.text { white-space: pre-wrap; overflow-wrap: anywhere; }
.clock { display: grid; }
.clock time { font-size: calc(var(--big) * 1.5); font-weight: 650; line-height: 1.1; }
</style>
