<script setup lang="ts">
// Device models: what ships and what was kept, adding many from one, sharing and bringing in.
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormTextarea } from 'bootstrap-vue-next/components/BFormTextarea'
import { computed, onMounted, ref } from 'vue'
import { api, ask, keepPart, listParts, type DeviceWithKey, type Model, type ModelEntry } from '../api'
import { useSend } from '../form'
import { linkNames } from '../format'
import { useHub, useOnly } from '../hub'

const hub = useHub()
useOnly(() => [])
const models = ref<ModelEntry[]>([])
const open = ref('')
const names = ref('')
const addresses = ref('')
const place = ref('')
const made = ref<DeviceWithKey[]>([])
const draft = ref<Model | null>(null)
const { failed, busy, send } = useSend()
const load = () => send(async () => (models.value = await listParts<ModelEntry>('models')))
onMounted(load)
const lines = (text: string) =>
  text
    .split('\n')
    .map((l) => l.trim())
    .filter(Boolean)
const count = computed(() => lines(names.value).length)

const addAll = (m: Model) =>
  send(async () => {
    const at = lines(addresses.value)
    made.value = await ask(
      api.POST('/models/{id}/devices', {
        params: { path: { id: m.id } },
        body: {
          devices: lines(names.value).map((name, i) => ({
            name,
            place: place.value,
            link: at[i] ? { kind: m.link.kind, address: at[i] } : undefined,
          })),
        },
      }),
    )
    names.value = addresses.value = open.value = ''
    models.value = await listParts<ModelEntry>('models')
  })
const drop = (m: Model) =>
  send(async () => {
    await ask(api.DELETE('/models/{id}', { params: { path: { id: m.id } } }))
    models.value = await listParts<ModelEntry>('models')
  })
async function choose(e: Event) {
  const input = e.target as HTMLInputElement
  const file = input.files?.[0]
  if (!file) return
  draft.value = null
  await send(async () => {
    let model: Model
    try {
      model = JSON.parse(await file.text())
    } catch {
      throw new Error(`${file.name} is no JSON file.`)
    }
    await ask(api.POST('/models/try', { body: model }))
    draft.value = model
  })
  input.value = ''
}
const keep = () =>
  send(async () => {
    await keepPart('models', draft.value!, models.value.find((m) => m.config.id === draft.value!.id)?.version)
    draft.value = null
    models.value = await listParts<ModelEntry>('models')
  })
const href = (m: Model) => 'data:application/json;charset=utf-8,' + encodeURIComponent(JSON.stringify(m, null, 2) + '\n')
const decided = (m: Model, slug: string) => (m.automations?.some((a) => a.control === slug) ? ', decided by the hub' : '')
const parts = (m: Model) =>
  [
    ...m.signals.map((s) => s.name),
    ...m.controls.map((c) => `${c.name} (${c.kind || 'switch'}${decided(m, c.id)})`),
    ...(m.settings ?? []).map((g) => `${g.name} (setting)`),
  ].join(', ')
</script>

<template>
  <main class="page stack">
    <div class="between">
      <h1>Device models</h1>
      <div class="d-flex gap-2">
        <label class="btn btn-outline-secondary"
          >Bring in a file<input type="file" accept="application/json,.json" class="visually-hidden" @change="choose"
        /></label>
        <RouterLink class="btn btn-outline-secondary" to="/devices">Devices</RouterLink>
      </div>
    </div>
    <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
    <section v-if="draft" class="sheet stack tight" aria-label="Preview">
      <h2>
        {{ draft.name }} <span class="soft small-text">{{ draft.id }} · {{ linkNames[draft.link.kind] }}</span>
      </h2>
      <p v-if="draft.about" class="mb-0">{{ draft.about }}</p>
      <p class="mb-0">{{ parts(draft) || 'no signals yet' }}</p>
      <div class="d-flex gap-2">
        <BButton size="sm" variant="primary" :disabled="busy" @click="keep">Keep this model</BButton
        ><BButton size="sm" variant="outline-secondary" @click="draft = null">Leave it</BButton>
      </div>
    </section>
    <section v-if="made.length" class="sheet">
      <h2 class="mb-2">Added, with their keys, shown this once</h2>
      <table class="table cards">
        <tbody>
          <tr v-for="d in made" :key="d.device.config.id">
            <td>
              <RouterLink :to="{ name: 'device', params: { id: d.device.config.id } }">{{ d.device.config.name }}</RouterLink>
            </td>
            <td>{{ d.device.config.id }}</td>
            <td>
              <code>{{ d.key }}</code>
            </td>
          </tr>
        </tbody>
      </table>
    </section>
    <section v-for="m in models" :key="m.config.id" class="sheet" :data-model="m.config.id">
      <div class="between">
        <h2>{{ m.config.name }}</h2>
        <span class="soft small-text"
          >{{ linkNames[m.config.link.kind] }} · {{ m.state.shipped ? 'ships with the hub' : 'yours' }} · {{ m.state.devices }}
          {{ m.state.devices === 1 ? 'device' : 'devices' }}</span
        >
      </div>
      <p v-if="m.config.about" class="mb-1 mt-1">{{ m.config.about }}</p>
      <p class="soft small-text mb-0">{{ parts(m.config) || 'no signals yet' }}</p>
      <div class="more small-text">
        <button type="button" :aria-expanded="open === m.config.id" @click="open = open === m.config.id ? '' : m.config.id">
          Add devices of it
        </button>
        <a :href="href(m.config)" :download="m.config.id + '.json'">Save as a file</a>
        <button v-if="!m.state.shipped" type="button" @click="drop(m.config)">Forget it</button>
      </div>
      <form v-if="open === m.config.id" class="inset stack tight" @submit.prevent="addAll(m.config)">
        <div class="fields">
          <label><span>Names, one a line</span><BFormTextarea v-model="names" rows="4" required /></label>
          <label v-if="['modbus', 'lines', 'poll', 'udp'].includes(m.config.link.kind)"
            ><span>Addresses, in the same order</span><BFormTextarea v-model="addresses" rows="4"
          /></label>
          <label><span>Place</span><BFormInput v-model="place" required list="model-places" /></label>
          <datalist id="model-places"><option v-for="p in hub.places" :key="p.id" :value="p.name" /></datalist>
        </div>
        <div>
          <BButton type="submit" size="sm" variant="primary" :disabled="busy || !count"
            >Add {{ count || '' }} {{ count === 1 ? 'device' : 'devices' }}</BButton
          >
        </div>
      </form>
    </section>
    <p class="soft small-text">A model file is JSON; its form is described by <a href="/api/device-model.schema.json">a JSON Schema</a>.</p>
  </main>
</template>
