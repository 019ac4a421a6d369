<script setup lang="ts">
// Adding a device: what it is, then how it connects, then its first message.
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { computed, onMounted, reactive, ref } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, listParts, type DeviceWithKey, type Link, type ModelEntry } from '../api'
import ConnectCard from '../components/ConnectCard.vue'
import Field from '../components/Field.vue'
import LinkEditor from '../components/LinkEditor.vue'
import StarterCode from '../components/StarterCode.vue'
import { num, useSend } from '../form'
import { useHub } from '../hub'

const hub = useHub()
const models = ref<ModelEntry[]>([])
const form = reactive({ name: '', place: '', model: String(useRoute().query.model ?? ''), id: '', wakes: '' })
const link = ref<Link>({ kind: 'mqtt' })
const given = ref<DeviceWithKey | null>(null)
const { failed, field, busy, send } = useSend()
onMounted(async () => (models.value = await listParts<ModelEntry>('models').catch(() => [])))
const model = computed(() => models.value.find((m) => m.config.id === form.model)?.config)
const needsAddress = computed(() => model.value && ['modbus', 'lines', 'poll'].includes(model.value.link.kind))
const address = ref('')

const add = () =>
  send(async () => {
    const body = { name: form.name, place: form.place, id: form.id || undefined }
    if (model.value) {
      const own = address.value ? { kind: model.value.link.kind, address: address.value } : undefined
      given.value = (
        await ask(
          api.POST('/models/{id}/devices', { params: { path: { id: model.value.id } }, body: { devices: [{ ...body, link: own }] } }),
        )
      )[0]!
    } else {
      given.value = await ask(
        api.POST('/devices', {
          body: { ...body, link: link.value, wakes_ms: num(form.wakes) ? Math.round(num(form.wakes)! * 60_000) : undefined },
        }),
      )
    }
  })
function another() {
  given.value = null
  form.name = form.id = address.value = ''
}
</script>

<template>
  <main class="page stack narrow">
    <div class="between">
      <h1>Add a device</h1>
      <RouterLink to="/devices">All devices</RouterLink>
    </div>
    <form v-if="!given" class="sheet stack" @submit.prevent="add">
      <div v-if="failed && !['name', 'id', 'place'].includes(field)" class="note bad" role="alert">{{ failed }}</div>
      <Field id="name" label="What is it called?" hint="Such as Drying room board" :error="field === 'name' || field === 'id' ? failed : ''"
        ><BFormInput id="name" v-model="form.name" required autofocus
      /></Field>
      <Field
        id="place"
        label="Where is it?"
        hint="A place that you have, or the name of a new one"
        :error="field === 'place' ? failed : ''">
        <BFormInput id="place" v-model="form.place" required list="places" />
        <datalist id="places"><option v-for="p in hub.places" :key="p.id" :value="p.name" /></datalist>
      </Field>
      <Field v-if="models.length" id="model" label="Of a device model?" :hint="model?.about">
        <BFormSelect
          id="model"
          v-model="form.model"
          :options="[
            { value: '', text: 'no, it describes itself or is described by hand' },
            ...models.map((m) => ({ value: m.config.id, text: m.config.name })),
          ]" />
      </Field>
      <Field v-if="needsAddress" id="address" label="Its address" :hint="model!.link.address ? `Left empty: ${model!.link.address}` : ''"
        ><BFormInput id="address" v-model="address" :required="!model!.link.address"
      /></Field>
      <template v-if="!model">
        <LinkEditor v-model="link" />
        <details v-if="['mqtt', 'http', 'udp'].includes(link.kind)">
          <summary>It sleeps on battery</summary>
          <div class="fields">
            <label
              ><span>It wakes every, min</span
              ><BFormInput v-model="form.wakes" type="number" min="0.2" step="any" placeholder="always awake"
            /></label>
          </div>
        </details>
      </template>
      <div class="d-flex gap-2">
        <BButton type="submit" variant="primary" :disabled="busy">Add it</BButton>
        <RouterLink class="btn btn-outline-secondary" to="/devices">Not now</RouterLink>
      </div>
    </form>
    <template v-else>
      <ConnectCard :given="given" />
      <StarterCode :device="given.device.config.id" :password="given.key" />
      <div class="d-flex gap-2">
        <RouterLink class="btn btn-primary" :to="{ name: 'device', params: { id: given.device.config.id } }">To its page</RouterLink>
        <BButton variant="outline-secondary" @click="another">Add another</BButton>
      </div>
    </template>
  </main>
</template>

<style scoped>
.narrow {
  max-width: 820px;
}
</style>
