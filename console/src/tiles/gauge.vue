<script lang="ts">
import { isNumber, type TileKind } from '../tiles'

export const kind: TileKind = { title: 'Gauge', shows: ['signal'], small: true, fits: (x) => (isNumber(x) ? 3 : 0) }
</script>

<script setup lang="ts">
// A scale with a marker, and what stretches of it mean: hatched is a warning, crossed is critical.
import { computed } from 'vue'
import type { Tile } from '../api'
import SignalValue from '../components/tiles/SignalValue.vue'
import { num } from '../form'
import { doubt } from '../fresh'
import { scaleOf, toned } from '../gauge'
import { useHub } from '../hub'
import type { Shown } from '../tiles'
import { shownUnit, shownValue } from '../units'

const hub = useHub()
const props = defineProps<{ shown: Shown; form?: boolean }>()
const emit = defineEmits<{ change: [by: Partial<Tile>] }>()
const tile = computed(() => props.shown.tile)
const signal = computed(() => hub.signals[tile.value.of![0]!])
const old = computed(() => doubt(hub, tile.value.of![0]!))
const scale = computed(() => (signal.value ? scaleOf(tile.value, signal.value) : { low: 0, high: 1 }))
const at = (v: number) => Math.min(100, Math.max(0, ((v - scale.value.low) / (scale.value.high - scale.value.low)) * 100))
const value = computed(() => (typeof signal.value?.state.value === 'number' ? signal.value.state.value : undefined))
const tone = computed(() => (value.value === undefined || old.value ? '' : toned(tile.value, value.value)))
const ranges = computed(() => tile.value.ranges ?? [])
const tones = { well: 'as it should be', warn: 'warning', critical: 'critical' } as const
const setRange = (i: number, by: object) => emit('change', { ranges: ranges.value.map((r, k) => (k === i ? { ...r, ...by } : r)) })
const typed = (e: Event) => (e.target as HTMLInputElement).value
const said = { well: 'as it should be', warn: 'in the warning range', critical: 'in the critical range' } as Record<string, string>
</script>

<template>
  <SignalValue v-if="signal && !form" :signal="signal" />
  <div
    v-if="signal && !form"
    class="gauge"
    :class="{ old }"
    role="meter"
    :aria-valuemin="scale.low"
    :aria-valuemax="scale.high"
    :aria-valuenow="value"
    :aria-valuetext="old && value !== undefined ? `${shownValue(value, signal.config.unit, signal.config.decimals)}, ${old}` : undefined"
    :aria-label="signal.config.name">
    <svg viewBox="0 0 100 14" preserveAspectRatio="none" aria-hidden="true">
      <defs>
        <pattern :id="'h-' + tile.id" width="1.6" height="4" patternUnits="userSpaceOnUse" patternTransform="skewX(-30)">
          <rect width="0.8" height="4" fill="var(--warn)" />
        </pattern>
        <pattern :id="'c-' + tile.id" width="1.2" height="2.4" patternUnits="userSpaceOnUse">
          <rect width="1.2" height="2.4" fill="var(--critical)" fill-opacity="0.55" />
          <rect width="0.6" height="1.2" fill="var(--critical)" />
        </pattern>
      </defs>
      <rect x="0" y="6" width="100" height="2" fill="var(--line)" />
      <rect
        v-for="r in tile.ranges ?? []"
        :key="r.from"
        :x="at(r.from)"
        y="5"
        :width="at(r.to) - at(r.from)"
        height="4"
        :fill="r.tone === 'well' ? 'var(--well)' : r.tone === 'warn' ? `url(#h-${tile.id})` : `url(#c-${tile.id})`" />
      <rect v-if="value !== undefined" :x="0" y="6" :width="at(value)" height="2" fill="var(--data)" />
    </svg>
    <i v-if="value !== undefined" class="marker" :style="{ left: at(value) + '%' }"></i>
    <div class="ends soft">
      <span>{{ shownValue(scale.low, signal.config.unit, 0) }}</span><span v-if="tone" :class="tone === 'well' ? '' : 'warn-text'">{{
        said[tone]
      }}</span
      ><span>{{ shownValue(scale.high, signal.config.unit, 0) }} {{ shownUnit(signal.config.unit) }}</span>
    </div>
  </div>
  <template v-if="form">
    <div class="fields">
      <label class="short"
        ><span>From</span
        ><input
          class="form-control form-control-sm"
          type="number"
          step="any"
          :value="tile.low"
          placeholder="by itself"
          @change="emit('change', { low: num(typed($event)) })"
      /></label>
      <label class="short"
        ><span>To</span
        ><input
          class="form-control form-control-sm"
          type="number"
          step="any"
          :value="tile.high"
          placeholder="by itself"
          @change="emit('change', { high: num(typed($event)) })"
      /></label>
    </div>
    <div v-for="(r, i) in ranges" :key="i" class="fields">
      <label class="short"
        ><span>From</span
        ><input
          class="form-control form-control-sm"
          type="number"
          step="any"
          :value="r.from"
          @change="setRange(i, { from: num(typed($event)) ?? 0 })"
      /></label>
      <label class="short"
        ><span>To</span
        ><input
          class="form-control form-control-sm"
          type="number"
          step="any"
          :value="r.to"
          @change="setRange(i, { to: num(typed($event)) ?? 0 })"
      /></label>
      <label class="short"
        ><span>means</span
        ><select class="form-select form-select-sm" :value="r.tone" @change="setRange(i, { tone: typed($event) })">
          <option v-for="(n, t) in tones" :key="t" :value="t">{{ n }}</option>
        </select></label
      >
      <button
        type="button"
        class="gone"
        aria-label="Take this range away"
        @click="emit('change', { ranges: ranges.filter((_, k) => k !== i) })">
        ×
      </button>
    </div>
    <button
      type="button"
      class="btn btn-outline-secondary btn-sm"
      :disabled="ranges.length >= 8"
      @click="emit('change', { ranges: [...ranges, { from: 0, to: 10, tone: 'warn' }] })">
      A range with a meaning
    </button>
  </template>
</template>

<style scoped>
.gauge {
  position: relative;
}
svg {
  display: block;
  width: 100%;
  height: 16px;
}
.marker {
  position: absolute;
  top: 0;
  width: 3px;
  height: 16px;
  margin-left: -1.5px;
  background: var(--ink);
  border-radius: 2px;
  transition: left 0.3s;
}
.old .marker {
  opacity: 0.35;
}
.old svg {
  filter: grayscale(1);
  opacity: 0.5;
}
.ends {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  gap: 0 6px;
  font-size: 0.75rem;
}
@container (max-width: 220px) {
  .ends > span:nth-child(2):not(:last-child) {
    order: 3;
    flex: 1 0 100%;
  }
}
@media (prefers-reduced-motion: reduce) {
  .marker {
    transition: none;
  }
}
.fields > label.short {
  flex: 1 1 90px;
}
.gone {
  border: 0;
  background: none;
  color: var(--soft);
  min-width: 40px;
  min-height: 36px;
}
</style>
