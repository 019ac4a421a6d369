<script setup lang="ts">
// Who may do what beyond what roles say, one line each.
import { computed, onMounted, ref } from 'vue'
import { api, ask, keepSole, type Member, type Right, type Rights } from '../api'
import { useSend } from '../form'
import { useHub } from '../hub'
import ThingPicker from './ThingPicker.vue'

const props = defineProps<{ members: Member[] }>()
const hub = useHub()
const rights = ref<Rights | null>(null)
const adding = ref(false)
const who = ref('guests')
const may = ref<Right['may']>('see')
const { failed, busy, send } = useSend()
const load = () =>
  send(async () => {
    rights.value = await ask(api.GET('/rights'))
  })
onMounted(load)
const people = computed(() => [
  { id: 'guests', name: 'every guest' },
  { id: 'members', name: 'every member' },
  ...props.members.filter((m) => m.role !== 'owner').map((m) => ({ id: m.account, name: m.name })),
])
const whoName = (id: string) => people.value.find((p) => p.id === id)?.name ?? id
function called(id: string) {
  const camera = id.endsWith(' pictures') ? hub.devices[id.slice(0, -9)] : undefined
  if (camera) return `what the camera of ${camera.config.name} sees`
  const place = hub.places.find((p) => p.id === id)
  if (place) return `everything in ${place.name}`
  const thing = hub.signals[id] ?? hub.controls[id] ?? hub.settings[id]
  return thing ? `${thing.config.name} (${id})` : hub.devices[id] ? `everything of ${hub.devices[id].config.name}` : id
}
const words = { none: 'may not see', see: 'may see', switch: 'may see and switch' }
const put = (lines: Right[]) =>
  send(async () => {
    try {
      rights.value = await keepSole('/rights', { lines }, rights.value!.version)
      adding.value = false
    } catch (e) {
      rights.value = await ask(api.GET('/rights'))
      throw e
    }
  })
const others = (l: Pick<Right, 'who' | 'of'>) => rights.value!.config.lines.filter((x) => x.who !== l.who || x.of !== l.of)
const add = (of: string) => put([...others({ who: who.value, of: named(of) }), { who: who.value, of: named(of), may: may.value }])
const named = (id: string) => (camera.value ? `${id} pictures` : id)
const camera = ref(false)
</script>

<template>
  <section class="sheet mt-3" aria-label="Rights">
    <div class="between mb-2">
      <h2>Who may do what</h2>
      <button v-if="!adding" type="button" class="btn btn-outline-secondary btn-sm" @click="adding = true">Add a line</button>
    </div>
    <p class="soft small-text">
      Owners may do everything. Members see and switch everything, guests what is opened to them; a line here changes that. The most
      specific one counts: for a person before one for all, for one thing before one for its place.
    </p>
    <div v-if="failed" class="note bad mb-2" role="alert">{{ failed }}</div>
    <form v-if="adding" class="stack mb-3" @submit.prevent>
      <div class="fields">
        <label
          ><span>Who</span
          ><select v-model="who" class="form-select" aria-label="Who">
            <option v-for="p in people" :key="p.id" :value="p.id">{{ p.name }}</option>
          </select></label
        >
        <label
          ><span>What they may</span
          ><select v-model="may" class="form-select" aria-label="May">
            <option value="none">not see</option>
            <option value="see">see</option>
            <option value="switch">see and switch</option>
          </select></label
        >
        <label class="check"><input v-model="camera" type="checkbox" class="form-check-input" /> what a camera sees</label>
      </div>
      <ThingPicker
        :label="camera ? 'Which camera' : 'A place, signal, switch or setting'"
        :kinds="camera ? ['camera'] : ['signal', 'control', 'setting', 'place']"
        @pick="add" />
      <div><button type="button" class="btn btn-outline-secondary btn-sm" @click="adding = false">Not now</button></div>
    </form>
    <ul v-if="rights?.config.lines.length" class="plain">
      <li v-for="l in rights.config.lines" :key="l.who + ' ' + l.of" class="between">
        <span
          ><strong>{{ whoName(l.who) }}</strong> {{ words[l.may] }} {{ called(l.of) }}</span
        >
        <button
          type="button"
          class="btn btn-outline-secondary btn-sm"
          :disabled="busy"
          :aria-label="`Take away: ${whoName(l.who)} ${words[l.may]} ${called(l.of)}`"
          @click="put(others(l))">
          Take away
        </button>
      </li>
    </ul>
    <p v-else-if="rights && !adding" class="soft mb-0">
      No lines yet. With one you let a guest switch the porch lamp, or keep the kiln for owners.
    </p>
  </section>
</template>

<style scoped>
.plain {
  list-style: none;
  margin: 0;
  padding: 0;
}
.plain li + li {
  border-top: 1px solid var(--line);
}
.plain li {
  padding: 8px 0;
  gap: 10px;
}
.check {
  display: flex;
  gap: 8px;
  align-items: center;
}
</style>
