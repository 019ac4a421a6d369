<script setup lang="ts">
// Everything that a tile can be about, found by a part of its name.
import { computed, ref } from 'vue'
import { useHub } from '../hub'

// kinds: signal, number, control, setting, preset, camera, place
const props = defineProps<{ kinds?: string[]; label?: string; taken?: string[] }>()
const emit = defineEmits<{ pick: [id: string] }>()
const hub = useHub()
const sought = ref('')
type Entry = { id: string; name: string; what: string }
const all = computed<Entry[]>(() => {
  const place = (p: string | undefined) => hub.places.find((x) => x.id === p)?.name ?? ''
  const wants = (k: string) => !props.kinds || props.kinds.includes(k)
  const out: Entry[] = []
  for (const s of Object.values(hub.signals))
    if (wants('signal') || (s.config.kind === 'number' && wants('number')))
      out.push({ id: s.config.id, name: s.config.name, what: place(s.state.place) })
  for (const c of Object.values(hub.controls))
    if (wants('control')) out.push({ id: c.config.id, name: c.config.name, what: `${place(c.state.place)}, control` })
  for (const s of Object.values(hub.settings))
    if (wants('setting')) out.push({ id: s.config.id, name: s.config.name, what: `${place(s.state.place)}, setting`.replace(/^, /, '') })
  for (const d of Object.values(hub.devices))
    if (wants('camera') && d.state.camera) out.push({ id: d.config.id, name: d.config.name, what: `${place(d.config.place)}, camera` })
  for (const p of hub.presets) if (wants('preset')) out.push({ id: p.config.id, name: p.config.name, what: 'preset' })
  if (wants('place')) for (const p of hub.places) out.push({ id: p.id, name: p.name, what: 'place' })
  return out.filter((e) => !props.taken?.includes(e.id)).sort((a, b) => a.what.localeCompare(b.what) || a.name.localeCompare(b.name))
})
const shown = computed(() => {
  const words = sought.value.trim().toLowerCase().split(/\s+/)
  return all.value.filter((e) => words.every((w) => `${e.name} ${e.what} ${e.id}`.toLowerCase().includes(w))).slice(0, 60)
})
</script>

<template>
  <div class="picker">
    <input
      v-model="sought"
      type="search"
      class="form-control form-control-sm"
      :placeholder="label ?? 'Search'"
      :aria-label="label ?? 'Search'" />
    <ul>
      <li v-for="e in shown" :key="e.id">
        <button type="button" :data-thing="e.id" @click="emit('pick', e.id)">
          {{ e.name }} <span class="soft small-text">{{ e.what }}</span>
        </button>
      </li>
      <li v-if="!shown.length" class="soft small-text">
        {{ sought ? `Nothing is called “${sought}”.` : 'There is nothing to choose from yet.' }}
      </li>
    </ul>
  </div>
</template>

<style scoped>
ul {
  list-style: none;
  margin: 6px 0 0;
  padding: 0;
  max-height: 260px;
  overflow: auto;
  border: 1px solid var(--line);
  border-radius: 10px;
}
li + li {
  border-top: 1px solid var(--line);
}
li {
  padding: 0;
}
li.soft {
  padding: 8px 12px;
}
button {
  border: 0;
  background: none;
  color: var(--ink);
  width: 100%;
  text-align: left;
  padding: 7px 12px;
  min-height: 38px;
  display: flex;
  justify-content: space-between;
  gap: 10px;
}
button:hover {
  background: var(--paper);
}
</style>
