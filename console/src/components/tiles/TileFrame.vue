<script setup lang="ts">
import { computed } from 'vue'
import { about } from '../../dashboards'
import { kindName, tileKinds, type Shown } from '../../tiles'
import TileBody from './TileBody.vue'

const props = defineProps<Shown>()
const emit = defineEmits<{ pin: [id: string, x: number, y: number]; pick: [id: string]; elements: [ids: { id: string; what: string }[]] }>()
const it = computed(() => about(props.tile.of?.[0] ?? ''))
const several = computed(() => props.tile.of && props.tile.of.length > 1)
const untitled = computed(() => !!tileKinds[props.tile.kind]?.kind.untitled)
const title = computed(
  () =>
    props.tile.name ||
    (untitled.value
      ? ''
      : several.value || !props.tile.of?.length
        ? several.value
          ? props.tile.of!.map((id) => about(id).name).join(', ')
          : kindName(props.tile.kind)
        : it.value.name),
)
const place = computed(() => (props.tile.name || untitled.value || several.value ? '' : it.value.place))
const link = computed(() => {
  if (props.wall || props.editing || !it.value) return null
  if (it.value.kind === 'signal') return { name: 'signal', params: { id: props.tile.of![0]! } }
  return it.value.kind === 'control' ? { name: 'signal', params: { id: props.tile.of![0]! + '.is' } } : null
})
</script>

<template>
  <section class="tile" :class="[tile.kind, { low: tile.h === 1 }]" :aria-label="title || kindName(tile.kind)" :data-tile="tile.id">
    <header v-if="title" class="small-text">
      <RouterLink v-if="link" :to="link">{{ title }}</RouterLink><span v-else>{{ title }}</span> {{ ' '
      }}<span v-if="place" class="soft place">{{ place }}</span>
    </header>
    <div class="body">
      <TileBody
        :shown="props"
        @pin="(id, x, y) => emit('pin', id, x, y)"
        @pick="emit('pick', $event)"
        @elements="emit('elements', $event)" />
    </div>
  </section>
</template>

<style scoped>
.tile {
  --big: 1.9rem;
  height: 100%;
  background: var(--sheet);
  border: 1px solid var(--line);
  border-radius: 12px;
  padding: 10px 14px;
  display: flex;
  flex-direction: column;
  overflow: hidden;
  container-type: size;
}
.tile header {
  display: flex;
  justify-content: space-between;
  gap: 10px;
  white-space: nowrap;
  font-weight: 550;
  flex: none;
}
.tile header > * {
  overflow: hidden;
  text-overflow: ellipsis;
}
.tile header a {
  text-decoration: none;
}
.tile header a:hover {
  text-decoration: underline;
}
.place {
  font-weight: 400;
}
.body {
  flex: 1 1 auto;
  min-height: 0;
  display: flex;
  flex-direction: column;
  justify-content: space-between;
  gap: 4px;
  overflow: auto;
}
.tile.low {
  padding: 6px 14px;
  --big: 1.5rem;
}
.tile.low .body,
.tile.text .body,
.tile.clock .body,
.tile.preset .body,
.tile.setpoint .body {
  justify-content: center;
}
.tile.picture .body {
  overflow: hidden;
}
.tile.chart .body {
  justify-content: flex-start;
}
@container (max-width: 170px) {
  .place {
    display: none;
  }
}
</style>
