<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { computed, reactive, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, HubError, sentence, type DeviceWithKey } from '../api'
import ConnectCard from '../components/ConnectCard.vue'
import Field from '../components/Field.vue'
import { since } from '../format'
import { useHub } from '../hub'

const hub = useHub()
const adding = ref(useRoute().query.add === '1' && hub.owner)
const form = reactive({ name: '', place: '' })
const failed = ref('')
const field = ref('')
const given = ref<DeviceWithKey | null>(null)
const devices = computed(() => Object.values(hub.devices).sort((a, b) => a.name.localeCompare(b.name)))
const placeName = (id: string) => hub.places.find((p) => p.id === id)?.name ?? id

async function add() {
  failed.value = field.value = ''
  try {
    given.value = await ask(api.POST('/devices', { body: { name: form.name, place: form.place, lease_ms: 60_000 } }))
    adding.value = false
    form.name = form.place = ''
  } catch (e) {
    failed.value = sentence(e)
    field.value = e instanceof HubError ? (e.field ?? '') : ''
  }
}
</script>

<template>
  <main class="page">
    <div class="between mb-3">
      <h1>Devices</h1>
      <BButton v-if="hub.owner && !adding" variant="primary" @click="adding = true">Add a device</BButton>
    </div>
    <form v-if="adding" class="sheet stack mb-3" @submit.prevent="add">
      <h2>Add a device</h2>
      <div v-if="failed && !field" class="note bad" role="alert">{{ failed }}</div>
      <Field id="name" label="What is it called?" hint="Such as Drying room board" :error="field === 'name' || field === 'id' ? failed : ''"><BFormInput id="name" v-model="form.name" required autofocus /></Field>
      <Field id="place" label="Where is it?" hint="A place that you have, or the name of a new one" :error="field === 'place' ? failed : ''">
        <BFormInput id="place" v-model="form.place" required list="places" />
        <datalist id="places"><option v-for="p in hub.places" :key="p.id" :value="p.name" /></datalist>
      </Field>
      <div class="d-flex gap-2">
        <BButton type="submit" variant="primary">Add it</BButton>
        <BButton variant="outline-secondary" @click="adding = false">Not now</BButton>
      </div>
    </form>
    <ConnectCard v-if="given" :given="given" class="mb-3" />
    <section v-if="devices.length" class="sheet">
      <table class="table cards">
        <thead><tr><th>Name</th><th>Place</th><th>State</th><th>Last heard</th><th v-if="hub.owner" class="num">Refused</th></tr></thead>
        <tbody>
          <tr v-for="d in devices" :key="d.id">
            <td><RouterLink :to="{ name: 'device', params: { id: d.id } }"><strong>{{ d.name }}</strong></RouterLink> <span class="soft small-text">{{ d.id }}</span></td>
            <td>{{ placeName(d.place) }}</td>
            <td :class="{ 'warn-text': !d.online }">{{ d.online ? 'online' : d.since ? `offline for ${since(d.since, hub.now)}` : 'never connected' }}</td>
            <td data-label="last heard">{{ d.last_heard ? since(d.last_heard, hub.now) + ' ago' : 'never' }}</td>
            <td v-if="hub.owner" class="num" data-label="refused" :class="{ 'warn-text': d.refused > 0 }">{{ d.refused }}</td>
          </tr>
        </tbody>
      </table>
    </section>
    <section v-else-if="!adding" class="sheet soft">
      {{ hub.owner ? 'No device yet. Add one: it gets a key of its own, and its readings appear by themselves.' : 'There is no device that you may see.' }}
    </section>
  </main>
</template>
