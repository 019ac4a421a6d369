<script setup lang="ts">
// How the person who is signed in wants the console, on every device.
import { BFormCheckbox } from 'bootstrap-vue-next/components/BFormCheckbox'
import { BFormRadioGroup } from 'bootstrap-vue-next/components/BFormRadio'
import { computed } from 'vue'
import type { Preferences } from '../api'
import { useSend } from '../form'
import { useHub } from '../hub'
import { pagesFor } from '../pages'
import { chime } from '../sound'
import Icon from './Icon.vue'

const hub = useHub()
const { failed, saved, send } = useSend()
const change = (p: Partial<Preferences>) => void send(() => hub.prefer(() => p))
const p = computed(() => hub.preferences)
const starts = computed(() => pagesFor(hub.me?.role).map((x) => ({ value: x.name === 'now' ? '' : `/${x.name}`, text: x.title })))
const favourites = computed(() =>
  (p.value.favourites ?? []).map((id) => ({
    id,
    name: hub.signals[id]?.config.name ?? hub.controls[id]?.config.name ?? id,
    place: hub.places.find((x) => x.id === (hub.signals[id]?.state.place ?? hub.controls[id]?.state.place))?.name,
  })),
)
const move = (id: string, by: number) =>
  void send(() =>
    hub.prefer(({ favourites = [] }) => {
      const list = favourites.filter((x) => x !== id)
      list.splice(Math.max(0, favourites.indexOf(id) + by), 0, id)
      return { favourites: list }
    }),
  )
</script>

<template>
  <section class="sheet stack tight" aria-label="For you">
    <div class="between">
      <h2>For {{ hub.me?.name }}</h2>
      <span role="status" class="soft small-text">{{ saved ? 'saved' : '' }}</span>
    </div>
    <div v-if="failed" class="note bad small-text" role="alert">{{ failed }}</div>
    <div>
      <span class="soft small-text">Theme</span
      ><BFormRadioGroup
        :model-value="p.theme ?? ''"
        :options="[
          { value: '', text: 'as the device' },
          { value: 'light', text: 'light' },
          { value: 'dark', text: 'dark' },
        ]"
        aria-label="Theme"
        @update:model-value="change({ theme: String($event) })" />
    </div>
    <div>
      <span class="soft small-text">Accent, the colour of what is on</span
      ><BFormRadioGroup
        :model-value="p.accent ?? ''"
        :options="[
          { value: '', text: 'ember' },
          { value: 'slate', text: 'slate' },
          { value: 'moss', text: 'moss' },
          { value: 'plum', text: 'plum' },
        ]"
        aria-label="Accent"
        @update:model-value="change({ accent: String($event) })" />
    </div>
    <BFormCheckbox :model-value="!!p.comma" @update:model-value="change({ comma: !!$event })">decimal comma, as in 21,5</BFormCheckbox>
    <BFormCheckbox :model-value="!!p.clock_12" @update:model-value="change({ clock_12: !!$event })"
      >clock to 12, as in 9:05 pm</BFormCheckbox
    >
    <div>
      <span class="soft small-text">Units</span
      ><BFormRadioGroup
        :model-value="p.units ?? ''"
        :options="[
          { value: '', text: 'as the signals have them' },
          { value: 'metric', text: 'metric' },
          { value: 'customary', text: '°F, inches, gallons' },
        ]"
        aria-label="Units"
        @update:model-value="change({ units: String($event) })" />
    </div>
    <BFormCheckbox
      :model-value="!!p.sound"
      @update:model-value="
        (on) => {
          change({ sound: !!on })
          if (on) chime()
        }
      "
      >a sound when something new needs attention</BFormCheckbox
    >
    <label class="d-block start"
      ><span class="soft small-text">The console opens with</span
      ><select class="form-select" :value="p.start ?? ''" @change="change({ start: ($event.target as HTMLSelectElement).value })">
        <option v-for="s in starts" :key="s.value" :value="s.value">{{ s.text }}</option>
      </select></label
    >
    <div>
      <span class="soft small-text">Favourites, first on Now</span>
      <p v-if="!favourites.length" class="small-text mb-0">
        None yet. A signal’s page has a button for it; tap a value on Now, then its name below the chart.
      </p>
      <ol v-else class="mb-0">
        <li v-for="(f, i) in favourites" :key="f.id">
          <RouterLink :to="{ name: 'signal', params: { id: hub.controls[f.id] ? f.id + '.is' : f.id } }">{{ f.name }}</RouterLink>
          {{ ' ' }}<span class="soft small-text">{{ f.place }}</span>
          <button type="button" :aria-label="`${f.name} up`" :disabled="!i" @click="move(f.id, -1)">↑</button
          ><button type="button" :aria-label="`${f.name} down`" :disabled="i === favourites.length - 1" @click="move(f.id, 1)">↓</button
          ><button type="button" :aria-label="`${f.name} is no favourite`" @click="send(() => hub.favour(f.id, false))">
            <Icon name="x" :size="11" />
          </button>
        </li>
      </ol>
    </div>
  </section>
</template>

<style scoped>
.start {
  max-width: 280px;
}
ol {
  padding-left: 22px;
}
li button {
  border: 0;
  background: none;
  color: var(--soft);
  min-width: 36px;
  min-height: 36px;
}
</style>
