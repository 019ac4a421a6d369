<script setup lang="ts">
// A scale with a marker, and what stretches of it mean: hatched is a warning, crossed is critical.
import { computed } from 'vue'
import type { Signal, Tile } from '../../api'
import { doubt } from '../../fresh'
import { scaleOf, toned } from '../../gauge'
import { useHub } from '../../hub'
import { shownUnit, shownValue } from '../../units'

const props = defineProps<{ tile: Tile; signal: Signal }>()
const hub = useHub()
const old = computed(() => doubt(hub, props.signal.id))
const scale = computed(() => scaleOf(props.tile, props.signal))
const at = (v: number) => Math.min(100, Math.max(0, ((v - scale.value.low) / (scale.value.high - scale.value.low)) * 100))
const value = computed(() => (typeof props.signal.value === 'number' ? props.signal.value : undefined))
const tone = computed(() => (value.value === undefined || old.value ? '' : toned(props.tile, value.value)))
const said = { well: 'as it should be', warn: 'in the warning range', critical: 'in the critical range' } as Record<string, string>
</script>

<template>
  <div class="gauge" :class="{ old }" role="meter" :aria-valuemin="scale.low" :aria-valuemax="scale.high" :aria-valuenow="value" :aria-valuetext="old && value !== undefined ? `${shownValue(value, signal.unit, signal.decimals)}, ${old}` : undefined" :aria-label="signal.name">
    <svg viewBox="0 0 100 14" preserveAspectRatio="none" aria-hidden="true">
      <defs>
        <pattern :id="'h-' + tile.id" width="1.6" height="4" patternUnits="userSpaceOnUse" patternTransform="skewX(-30)"><rect width="0.8" height="4" fill="var(--warn)" /></pattern>
        <pattern :id="'c-' + tile.id" width="1.2" height="2.4" patternUnits="userSpaceOnUse"><rect width="1.2" height="2.4" fill="var(--critical)" fill-opacity="0.55" /><rect width="0.6" height="1.2" fill="var(--critical)" /></pattern>
      </defs>
      <rect x="0" y="6" width="100" height="2" fill="var(--line)" />
      <rect v-for="r in tile.ranges ?? []" :key="r.from" :x="at(r.from)" y="5" :width="at(r.to) - at(r.from)" height="4" :fill="r.tone === 'well' ? 'var(--well)' : r.tone === 'warn' ? `url(#h-${tile.id})` : `url(#c-${tile.id})`" />
      <rect v-if="value !== undefined" :x="0" y="6" :width="at(value)" height="2" fill="var(--data)" />
    </svg>
    <i v-if="value !== undefined" class="marker" :style="{ left: at(value) + '%' }"></i>
    <div class="ends soft"><span>{{ shownValue(scale.low, signal.unit, 0) }}</span><span v-if="tone" :class="tone === 'well' ? '' : 'warn-text'">{{ said[tone] }}</span><span>{{ shownValue(scale.high, signal.unit, 0) }} {{ shownUnit(signal.unit) }}</span></div>
  </div>
</template>

<style scoped>
.gauge { position: relative; }
svg { display: block; width: 100%; height: 16px; }
.marker { position: absolute; top: 0; width: 3px; height: 16px; margin-left: -1.5px; background: var(--ink); border-radius: 2px; transition: left 0.3s; }
.old .marker { opacity: 0.35; }
.old svg { filter: grayscale(1); opacity: 0.5; }
.ends { display: flex; flex-wrap: wrap; justify-content: space-between; gap: 0 6px; font-size: 0.75rem; }
@container (max-width: 220px) { .ends > span:nth-child(2):not(:last-child) { order: 3; flex: 1 0 100%; } }
@media (prefers-reduced-motion: reduce) { .marker { transition: none; } }
</style>
