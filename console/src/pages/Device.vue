<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BModal } from 'bootstrap-vue-next/components/BModal'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, sentence, type DeviceWithKey, type Refusal } from '../api'
import ConnectCard from '../components/ConnectCard.vue'
import ControlEditor from '../components/ControlEditor.vue'
import SignalEditor from '../components/SignalEditor.vue'
import { clockText, dayText, since } from '../format'
import { useHub } from '../hub'

const hub = useHub()
const id = String(useRoute().params.id)
const device = computed(() => hub.devices[id])
const signals = computed(() => Object.values(hub.signals).filter((s) => s.device === id).sort((a, b) => a.id.localeCompare(b.id)))
const controls = computed(() => Object.values(hub.controls).filter((c) => c.device === id).sort((a, b) => a.id.localeCompare(b.id)))
const refusals = ref<Refusal[]>([])
const given = ref<DeviceWithKey | null>(null)
const asking = ref(false)
const failed = ref('')
const newSwitch = ref('')

async function load() {
  if (!hub.owner) return
  try {
    refusals.value = await ask(api.GET('/devices/{id}/refusals', { params: { path: { id } } }))
  } catch (e) {
    failed.value = sentence(e)
  }
}
onMounted(load)
watch(() => device.value?.refused, load)

async function act(f: () => Promise<unknown>) {
  failed.value = ''
  try {
    await f()
  } catch (e) {
    failed.value = sentence(e)
  }
}
const newKey = () => act(async () => (given.value = await ask(api.POST('/devices/{id}/key', { params: { path: { id } } }))))
const addSwitch = () => act(async () => {
  await ask(api.POST('/devices/{id}/controls', { params: { path: { id } }, body: { name: newSwitch.value, answers: true } }))
  newSwitch.value = ''
})
</script>

<template>
  <main class="page stack">
    <template v-if="device">
      <div class="between">
        <div>
          <h1>{{ device.name }}</h1>
          <span class="soft">{{ device.id }} · {{ hub.places.find((p) => p.id === device!.place)?.name }}</span>
        </div>
        <BButton v-if="hub.owner" variant="outline-secondary" @click="asking = true">New key</BButton>
      </div>
      <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
      <ConnectCard v-if="given" :given="given" />
      <section class="sheet facts">
        <div><span class="soft small-text">State</span><br /><strong :class="{ 'warn-text': !device.online }">{{ device.online ? 'online' : device.since ? 'offline' : 'never connected' }}</strong> <span v-if="device.since" class="soft">for {{ since(device.since, hub.now) }}</span></div>
        <div><span class="soft small-text">Last heard</span><br />{{ device.last_heard ? dayText(Date.parse(device.last_heard), hub.zone) : 'never' }}</div>
        <div v-if="device.from"><span class="soft small-text">From</span><br />{{ device.from }}</div>
        <div v-if="device.why"><span class="soft small-text">Why offline</span><br />{{ device.why }}</div>
        <div><span class="soft small-text">Lease</span><br />{{ device.lease_ms ? `${device.lease_ms / 1000} s` : 'none' }}</div>
      </section>
      <template v-if="hub.owner">
        <section class="sheet">
          <h2 class="mb-2">Signals</h2>
          <p v-if="!signals.length" class="soft mb-0">None yet. They appear with the board's first message.</p>
          <SignalEditor v-for="s in signals" :key="s.id" :signal="s" />
        </section>
        <section class="sheet">
          <h2 class="mb-2">Switches</h2>
          <p v-if="!controls.length" class="soft">None yet. One appears when the board reports it on <code>ember/{{ id }}/is/&lt;control&gt;</code>; for a board that does not, add it here.</p>
          <ControlEditor v-for="c in controls" :key="c.id" :control="c" />
          <form class="d-flex gap-2 mt-3" @submit.prevent="addSwitch">
            <BFormInput v-model="newSwitch" aria-label="Name of a new switch" placeholder="Name of a new switch" required />
            <BButton type="submit" variant="outline-secondary" class="text-nowrap">Add</BButton>
          </form>
        </section>
        <section class="sheet">
          <div class="between mb-2"><h2>Refused</h2><span class="soft small-text">{{ device.refused }} in all; the last 100 are kept</span></div>
          <p v-if="!refusals.length" class="soft mb-0">Everything that this device sent could be taken.</p>
          <table v-else class="table cards">
            <thead><tr><th>At</th><th>Topic</th><th>Payload</th><th>Why</th></tr></thead>
            <tbody>
              <tr v-for="r in refusals" :key="r.n">
                <td class="text-nowrap" :title="dayText(Date.parse(r.at), hub.zone)">{{ clockText(Date.parse(r.at), hub.zone, { day: '2-digit', month: 'short', hour: '2-digit', minute: '2-digit', second: '2-digit' }) }}</td>
                <td><code>{{ r.topic }}</code></td>
                <td><code>{{ r.payload || '(empty)' }}</code><span v-if="r.bytes > r.payload.length" class="soft small-text"> … {{ r.bytes }} bytes</span></td>
                <td>{{ r.reason }}</td>
              </tr>
            </tbody>
          </table>
        </section>
      </template>
      <BModal v-model="asking" title="Give it a new key?" ok-title="New key" cancel-title="Keep the old one" ok-variant="primary" cancel-variant="outline-secondary" @ok="newKey">
        The old key is void at once. The board stays offline until it has the new one. Ids and history stay.
      </BModal>
    </template>
    <section v-else class="sheet"><h1>{{ hub.loaded ? 'There is no such device' : 'Asking the hub …' }}</h1><RouterLink to="/devices">All devices</RouterLink></section>
  </main>
</template>

<style scoped>
.facts { display: flex; flex-wrap: wrap; gap: 14px 36px; }
</style>
