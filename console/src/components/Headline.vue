<script setup lang="ts">
// The first readings of each place in one line, always in view.
import { computed } from 'vue'
import type { Signal } from '../api'
import { doubt } from '../fresh'
import { useHub } from '../hub'
import LiveValue from './LiveValue.vue'

const hub = useHub()
const items = computed(() => {
  const dear = (hub.preferences.favourites ?? []).flatMap((id) =>
    hub.signals[id] && hub.signals[id].state.fresh !== 'unknown' ? [hub.signals[id]] : [],
  )
  const numbers = Object.values(hub.signals).filter(
    (s) => s.config.kind === 'number' && s.state.fresh !== 'unknown' && !hub.devices[s.config.device]?.config.state,
  )
  const rank = ({ config }: Signal) => (config.name === 'Temperature' ? 0 : config.unit === 'Cel' ? 1 : 2)
  return [
    ...dear,
    ...numbers.filter((s) => !dear.includes(s)).sort((a, b) => rank(a) - rank(b) || a.config.id.localeCompare(b.config.id)),
  ].slice(0, Math.max(8, dear.length))
})
const single = computed(() => hub.places.length < 2)
function label(s: Signal) {
  const place = hub.places.find((p) => p.id === s.state.place)?.name ?? ''
  const name = s.config.name.toLowerCase()
  if (single.value || name.startsWith(place.toLowerCase().split(' ')[0]!)) return s.config.name
  return s.config.unit === 'Cel' && name === 'temperature' ? place : `${place} ${name}`
}
</script>

<template>
  <div v-if="items.length" class="headline" role="region" aria-label="Current conditions" tabindex="0">
    <RouterLink
      v-for="s in items"
      :key="s.config.id"
      :to="{ name: 'charts', query: { s: s.config.id } }"
      :class="{ old: doubt(hub, s.config.id) }">
      <span class="soft small-text">{{ label(s) }}</span>
      <b><LiveValue :signal="s" /></b>
      {{ ' ' }}<span v-if="hub.link === 'live' && doubt(hub, s.config.id)" class="warn-text small-text">{{ doubt(hub, s.config.id) }}</span>
    </RouterLink>
  </div>
</template>

<style scoped>
.headline {
  position: sticky;
  top: 52px;
  z-index: 5;
  display: flex;
  overflow-x: auto;
  background: var(--paper);
  border-bottom: 1px solid var(--line);
  scrollbar-width: none;
}
.headline a {
  flex: 1 0 auto;
  display: flex;
  gap: 9px;
  justify-content: center;
  align-items: baseline;
  padding: 7px 16px;
  color: inherit;
  text-decoration: none;
  white-space: nowrap;
}
.headline a + a {
  border-left: 1px solid var(--line);
}
.headline :deep(small) {
  font-size: inherit;
}
.old b {
  color: var(--soft);
  font-weight: 500;
}
@media (max-width: 820px) {
  .headline a {
    flex: 1 0 auto;
    padding: 9px 12px;
  }
}
</style>
