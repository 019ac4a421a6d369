<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { computed, onMounted, reactive, ref } from 'vue'
import { api, ask, keepSole, type HubInfo } from '../api'
import AccountCard from '../components/AccountCard.vue'
import BackupsCard from '../components/BackupsCard.vue'
import BrokersCard from '../components/BrokersCard.vue'
import ForYou from '../components/ForYou.vue'
import Field from '../components/Field.vue'
import PanelCard from '../components/PanelCard.vue'
import ThisBrowser from '../components/ThisBrowser.vue'
import StorageCard from '../components/StorageCard.vue'
import { useSend } from '../form'
import { useHub, useOnly } from '../hub'

const hub = useHub()
useOnly(() => [])
const info = ref<HubInfo | null>(null)
const form = reactive({ name: '', zone: '', latitude: 0, longitude: 0, journal: 0, idle: 30 })
const { failed, field, saved, send } = useSend()
const zones = computed(() => (info.value?.state.zones ?? []).map((z) => ({ value: z, text: z.replace(/_/g, ' ') })))
const port = (addr: string | undefined) => addr?.split(':').at(-1) ?? ''

function show(v: HubInfo) {
  info.value = v
  const c = v.config
  Object.assign(form, {
    name: c.name,
    zone: c.zone,
    latitude: c.latitude,
    longitude: c.longitude,
    journal: c.journal_days ?? 0,
    idle: v.state.idle_days,
  })
}
const load = async () => show(await ask(api.GET('/hub')))
onMounted(async () => {
  await send(load)
  saved.value = false
})
const save = () =>
  send(async () =>
    show(
      await keepSole(
        '/hub',
        {
          ...info.value!.config,
          name: form.name,
          zone: form.zone,
          latitude: Number(form.latitude),
          longitude: Number(form.longitude),
          journal_days: Number(form.journal),
          idle_days: Number(form.idle),
        },
        info.value!.version,
      ),
    ),
  )
</script>

<template>
  <main class="page narrow stack">
    <div class="between">
      <h1>Settings</h1>
      <BButton variant="outline-secondary" @click="hub.leave()">Sign out {{ hub.me?.name }}</BButton>
    </div>
    <ForYou />
    <AccountCard />
    <ThisBrowser :info="info" />
    <div v-if="failed && !field" class="note bad" role="alert">{{ failed }}</div>
    <form v-if="hub.owner && info" class="sheet stack" @submit.prevent="save">
      <h2>This hub</h2>
      <Field id="name" label="Name" :error="field === 'name' ? failed : ''"><BFormInput id="name" v-model="form.name" required /></Field>
      <Field id="zone" label="Time zone" :error="field === 'zone' ? failed : ''"
        ><BFormSelect id="zone" v-model="form.zone" :options="zones"
      /></Field>
      <div class="pair">
        <Field id="latitude" label="Latitude, degrees" :error="field === 'latitude' ? failed : ''"
          ><BFormInput id="latitude" v-model="form.latitude" type="number" step="any" required
        /></Field>
        <Field id="longitude" label="Longitude, degrees"
          ><BFormInput id="longitude" v-model="form.longitude" type="number" step="any" required
        /></Field>
      </div>
      <Field id="journal" label="The journal is kept for, days (0: for ever)" :error="field === 'journal_days' ? failed : ''"
        ><BFormInput id="journal" v-model="form.journal" type="number" min="0"
      /></Field>
      <Field id="idle" label="A browser that is not used is signed out after, days" :error="field === 'idle_days' ? failed : ''"
        ><BFormInput id="idle" v-model="form.idle" type="number" min="1" max="365"
      /></Field>
      <div class="d-flex gap-3 align-items-center">
        <BButton type="submit" variant="primary">Save</BButton><span role="status" class="soft">{{ saved ? 'saved' : '' }}</span>
      </div>
    </form>
    <section v-if="info" class="sheet">
      <h2 class="mb-2">In the house</h2>
      <template v-if="!info.state.open">
        <p>
          The hub listens to this computer alone (console {{ info.state.http }}, boards {{ info.state.mqtt }}). To open it to phones and
          boards in the house, stop it and start it with
        </p>
        <p>
          <code>idleember serve --http :{{ port(info.state.http) }} --mqtt :{{ port(info.state.mqtt) }}</code>
        </p>
        <p class="mb-0 soft">
          Or put <code>http = ":{{ port(info.state.http) }}"</code> and <code>mqtt = ":{{ port(info.state.mqtt) }}"</code> into the file
          that you give with <code>--config</code>. Traffic in the house is then not encrypted; use it in networks that you trust.
        </p>
      </template>
      <p v-else class="mb-0">
        The hub is open to the house: console at port {{ port(info.state.http) }}, boards at port {{ port(info.state.mqtt)
        }}{{ info.state.mqtt_open ? '' : ' of this computer alone' }}.
      </p>
    </section>
    <template v-if="hub.owner"><BackupsCard /><BrokersCard /><PanelCard /></template>
    <StorageCard v-if="hub.member" />
    <p class="soft small-text">Idle Ember {{ info?.state.version }} · <a href="/api/docs">interface for scripts</a></p>
  </main>
</template>

<style scoped>
.narrow {
  max-width: 720px;
}
.pair {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(200px, 1fr));
  gap: 14px;
}
</style>
