<script setup lang="ts">
// The notes of what a chart shows, numbered as on it, and a form to put one.
import { ref, watch } from 'vue'
import { api, ask, type Remark } from '../api'
import { useSend } from '../form'
import { dayText } from '../format'
import { useHub } from '../hub'
import { zonedInstant, zonedText } from '../zoned'

const props = defineProps<{ notes: Remark[]; places: { id: string; name: string }[]; at: number; picked?: number | null; known: boolean }>()
const emit = defineEmits<{ changed: [] }>()
const hub = useHub()
const open = ref(false)
const text = ref('')
const when = ref('')
const until = ref('')
const place = ref('')
const { failed, busy, send } = useSend()

function begin() {
  open.value = true
  when.value = zonedText(props.at, hub.zone)
  until.value = ''
  place.value = props.places[0]?.id ?? ''
}
watch(
  () => props.picked,
  (p) => (p ? begin() : (open.value = false)),
)
async function put() {
  const iso = (t: string) => new Date(zonedInstant(t, hub.zone)).toISOString()
  const done = await send(() =>
    ask(
      api.POST('/notes', {
        body: { at: iso(when.value), object: place.value, text: text.value, ...(until.value ? { until: iso(until.value) } : {}) },
      }),
    ),
  )
  if (!done) return
  open.value = false
  text.value = ''
  emit('changed')
}
async function remove(id: number) {
  if (await send(() => ask(api.DELETE('/notes/{note}', { params: { path: { note: id } } })))) emit('changed')
}
const nameOf = (object: string) =>
  hub.places.find((p) => p.id === object)?.name ??
  hub.signals[object]?.config.name ??
  hub.controls[object]?.config.name ??
  hub.devices[object.split('.')[0]!]?.config.name ??
  object
</script>

<template>
  <section class="sheet notes" aria-label="Notes">
    <div class="between">
      <h2>Notes</h2>
      <button v-if="!open" type="button" class="btn btn-outline-secondary btn-sm no-print" @click="begin">Put a note</button>
    </div>
    <ol v-if="notes.length" reversed>
      <li v-for="n in notes" :key="n.id">
        <strong>{{ n.text }}</strong>
        {{ ' '
        }}<span class="soft small-text"
          >{{ dayText(Date.parse(n.at), hub.zone) }}{{ n.until ? ` – ${dayText(Date.parse(n.until), hub.zone)}` : '' }} ·
          {{ nameOf(n.object) }} · {{ n.by }}</span
        >
        <button
          v-if="hub.owner || n.by === hub.me?.name"
          type="button"
          class="gone no-print"
          :aria-label="`Take the note ${n.text} away`"
          @click="remove(n.id)">
          ×
        </button>
      </li>
    </ol>
    <p v-else-if="known && !open" class="soft small-text mb-0">Nothing is noted in this stretch.</p>
    <form v-if="open" class="fields mt-2" @submit.prevent="put">
      <label class="wide"
        ><span class="soft small-text">Note</span
        ><input v-model="text" class="form-control form-control-sm" required maxlength="500" placeholder="new filter"
      /></label>
      <label
        ><span class="soft small-text">At</span><input v-model="when" class="form-control form-control-sm" type="datetime-local" required
      /></label>
      <label
        ><span class="soft small-text">Until, of a stretch</span
        ><input v-model="until" class="form-control form-control-sm" type="datetime-local" :min="when"
      /></label>
      <label class="short"
        ><span class="soft small-text">Place</span
        ><select v-model="place" class="form-select form-select-sm">
          <option v-for="p in places" :key="p.id" :value="p.id">{{ p.name }}</option>
        </select></label
      >
      <div class="d-flex gap-2">
        <button class="btn btn-primary btn-sm" :disabled="busy">Save</button
        ><button type="button" class="btn btn-outline-secondary btn-sm" @click="open = false">Leave it</button>
      </div>
    </form>
    <p v-if="failed" class="note bad small-text mb-0 mt-2" role="alert">{{ failed }}</p>
  </section>
</template>

<style scoped>
.notes ol {
  margin: 6px 0 0;
  padding-left: 26px;
}
.gone {
  border: 0;
  background: none;
  color: var(--soft);
  min-width: 32px;
  min-height: 32px;
}
.wide {
  flex: 1 1 220px;
}
</style>
