<script setup lang="ts">
import { computed, toRaw } from 'vue'
import type { Control, Device, Place, Setting, Signal } from '../api'
import type { Runs, Trace } from '../day'
import { length } from '../format'
import { useHub } from '../hub'
import ControlRow from './ControlRow.vue'
import ReadingCell from './ReadingCell.vue'
import Stepper from './Stepper.vue'

const props = defineProps<{
  place: Place
  signals: Signal[]
  controls: Control[]
  devices: Device[]
  settings: Setting[]
  traces: Record<string, Trace>
  runs: Record<string, Runs>
  from: number
  to: number
  whole?: boolean
}>()
const hub = useHub()
const boards = computed(() => {
  const off = props.devices.filter((d) => !d.state.online)
  const n = props.devices.length
  const kind = n === 1 ? 'device' : 'devices'
  if (off.length === 1) {
    const gone = off[0]!
    return {
      warn: true,
      text: `${gone.config.name} offline${gone.state.since ? ` for ${length(hub.minute - Date.parse(gone.state.since))}` : ', never connected'}`,
    }
  }
  if (off.length > 1) return { warn: true, text: `${off.length} of ${n} devices offline` }
  // By the clock of quarter minutes: not with each reading.
  const heard = Math.max(...props.signals.map((s) => Date.parse(toRaw(s).state.heard ?? '') || -Infinity))
  const recent = Number.isFinite(heard)
    ? hub.minute - heard < 60_000
      ? ' · heard within a minute'
      : ` · heard ${length(hub.minute - heard)} ago`
    : ''
  return { warn: false, text: `${n} ${kind}${recent}` }
})
const warn = computed(() => boards.value.warn)
const text = computed(() => boards.value.text)
// Among favourites of many places each says which it is of.
const where = (id: string) => (props.place.id ? undefined : hub.places.find((p) => p.id === id)?.name)
</script>

<template>
  <section class="place" :aria-labelledby="'place-' + place.id">
    <header class="between">
      <h2 :id="'place-' + place.id">
        <RouterLink v-if="place.id && !whole" :to="{ name: 'place', params: { id: place.id } }">{{ place.name }}</RouterLink><template
          v-else
          >{{ place.name }}</template
        >
      </h2>
      <span v-if="place.id" class="small-text" :class="warn ? 'warn-text' : 'soft'">{{ text }}</span>
    </header>
    <div v-if="signals.length" class="readings">
      <ReadingCell
        v-for="s in signals"
        :key="s.config.id"
        :signal="s"
        :trace="traces[s.config.id]"
        :runs="runs[s.config.id]"
        :from="from"
        :to="to"
        :where="where(s.state.place)" />
    </div>
    <p v-else-if="!controls.length" class="soft waiting">
      Nothing has arrived from here yet. As soon as the board sends a first reading, it shows here by itself.
    </p>
    <ControlRow
      v-for="c in controls"
      :key="c.config.id"
      class="line"
      :control="c"
      :runs="runs[c.config.id + '.is']"
      :from="from"
      :to="to"
      :where="where(c.state.place)" />
    <div v-if="settings.length" class="line settings"><Stepper v-for="s in settings" :key="s.config.id" :setting="s" label /></div>
  </section>
</template>

<style scoped>
/* What is out of sight is not laid out. */
.place {
  content-visibility: auto;
  contain-intrinsic-size: auto 480px;
  background: var(--sheet);
  border: 1px solid var(--line);
  border-radius: 12px;
  overflow: hidden;
}
.place > header {
  padding: 14px 18px 8px;
}
.place h2 a {
  text-decoration: none;
}
.place h2 a:hover {
  text-decoration: underline;
}
.readings {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(130px, 1fr));
  padding: 0 4px 14px 0;
  row-gap: 14px;
  overflow: hidden;
}
.readings > * {
  box-shadow: -1px 0 0 var(--line);
  padding: 0 14px 0 18px;
}
.line {
  border-top: 1px solid var(--line);
}
.settings {
  display: flex;
  flex-wrap: wrap;
  gap: 10px 24px;
  padding: 10px 18px 14px;
}
.waiting {
  padding: 0 18px 16px;
  margin: 0;
}
@media (max-width: 520px) {
  .place > header {
    padding: 12px 14px 6px;
  }
  .readings > * {
    padding: 0 10px 0 14px;
  }
  .readings {
    padding: 0 0 12px;
    grid-template-columns: repeat(auto-fit, minmax(104px, 1fr));
  }
}
</style>
