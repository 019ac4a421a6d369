<script setup lang="ts">
// MQTT brokers elsewhere of which the hub is a client.
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormTextarea } from 'bootstrap-vue-next/components/BFormTextarea'
import { onMounted, reactive, ref } from 'vue'
import { keepPart, listParts, removePart, type Broker } from '../api'
import { useSend } from '../form'

const brokers = ref<Broker[]>([])
const empty = { id: '', name: '', address: '', user: '', password: '', client_id: '', share: '', ca: '', alive: '' }
const form = reactive({ ...empty })
const open = ref(false)
const version = ref<string>()
const { failed, busy, send } = useSend()
const load = async () => (brokers.value = await listParts<Broker>('brokers'))
onMounted(() => send(load))
function edit(b?: Broker) {
  Object.assign(form, empty, b?.config ?? {}, { password: '' })
  version.value = b?.version
  open.value = true
}
const save = () =>
  send(async () => {
    await keepPart('brokers', { ...form, password: form.password || undefined }, version.value)
    open.value = false
    await load()
  })
const drop = (b: Broker) =>
  send(async () => {
    await removePart('brokers', b.config.id!)
    await load()
  })
</script>

<template>
  <section class="sheet stack tight">
    <div class="between">
      <h2>Brokers elsewhere</h2>
      <BButton v-if="!open" size="sm" variant="outline-secondary" @click="edit()">Add a broker</BButton>
    </div>
    <p class="soft small-text mb-0">For devices that speak MQTT with a broker of their own. The hub signs in there as a client.</p>
    <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
    <table v-if="brokers.length" class="table cards">
      <tbody>
        <tr v-for="b in brokers" :key="b.config.id">
          <td>
            <strong>{{ b.config.name }}</strong> <span class="soft small-text">{{ b.config.id }}</span>
          </td>
          <td>
            <code>{{ b.config.address }}</code>
          </td>
          <td :class="{ 'warn-text': !b.state.connected && b.state.why }">
            {{ b.state.connected ? 'connected' : b.state.why || 'not used by a device yet' }}
          </td>
          <td class="num">
            <BButton size="sm" variant="outline-secondary" @click="edit(b)">Change</BButton>
            {{ ' ' }}<BButton size="sm" variant="outline-secondary" @click="drop(b)">Forget</BButton>
          </td>
        </tr>
      </tbody>
    </table>
    <form v-if="open" class="stack tight" @submit.prevent="save">
      <div class="fields">
        <label><span>Name</span><BFormInput v-model="form.name" required /></label>
        <label><span>Address</span><BFormInput v-model="form.address" required placeholder="mqtt://192.168.1.5:1883" /></label>
        <label><span>User</span><BFormInput v-model="form.user" autocomplete="off" /></label>
        <label
          ><span>Password</span
          ><BFormInput v-model="form.password" type="password" autocomplete="new-password" :placeholder="form.id ? 'as it is' : ''"
        /></label>
        <label><span>Client id</span><BFormInput v-model="form.client_id" placeholder="made by the hub" /></label>
        <label><span>Share the load, group</span><BFormInput v-model="form.share" placeholder="this hub takes all" /></label>
        <label><span>Topic that says the hub is there</span><BFormInput v-model="form.alive" placeholder="none" /></label>
      </div>
      <details>
        <summary>Certificate of its authority</summary>
        <BFormTextarea
          v-model="form.ca"
          rows="4"
          class="mono"
          aria-label="Certificate of its authority, PEM"
          placeholder="-----BEGIN CERTIFICATE-----" />
      </details>
      <div class="d-flex gap-2">
        <BButton type="submit" size="sm" variant="primary" :disabled="busy">Save</BButton
        ><BButton size="sm" variant="outline-secondary" @click="open = false">Not now</BButton>
      </div>
    </form>
  </section>
</template>
