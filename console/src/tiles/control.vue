<script lang="ts">
import { useHub } from '../hub'
import type { TileKind } from '../tiles'

export const kind: TileKind = {
  title: 'Switch, slider or choice',
  shows: ['control'],
  fits: (x) => (x.kind === 'control' ? 1 : 0),
  tall: (t) => [useHub().controls[t.of?.[0] ?? '']?.state.settings?.length ? 3 : 1, 99], // switch and setpoint stand one below the other
}
</script>

<script setup lang="ts">
import { computed } from 'vue'
import Position from '../components/Position.vue'
import Stepper from '../components/Stepper.vue'
import TileLamp from '../components/tiles/TileLamp.vue'
import type { Shown } from '../tiles'

const props = defineProps<{ shown: Shown; form?: boolean }>()
const hub = useHub()
const control = computed(() => hub.controls[props.shown.tile.of![0]!])
const aimed = computed(() => (control.value?.state.settings ?? []).flatMap((id) => hub.settings[id] ?? []))
</script>

<template>
  <template v-if="control && !form">
    <div class="state-line">
      <TileLamp :of="control.config.id" /><span v-if="control.state.reason" class="soft small-text why">{{ control.state.reason }}</span>
    </div>
    <div class="hands"><Stepper v-for="s in aimed" :key="s.config.id" :setting="s" /><Position :control="control" /></div>
  </template>
</template>

<style scoped>
.state-line {
  min-width: 0;
}
.why {
  display: block;
  overflow-wrap: anywhere;
}
.hands {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 12px;
  align-items: center;
}
</style>
