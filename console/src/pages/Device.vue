<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { BModal } from 'bootstrap-vue-next/components/BModal'
import { useIntervalFn } from '@vueuse/core'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { addPart, api, ask, type DeviceWithKey, type Refusal } from '../api'
import CameraForm from '../components/CameraForm.vue'
import ConnectCard from '../components/ConnectCard.vue'
import ControlEditor from '../components/ControlEditor.vue'
import DeviceForm from '../components/DeviceForm.vue'
import SignalEditor from '../components/SignalEditor.vue'
import StarterCode from '../components/StarterCode.vue'
import TrafficList from '../components/TrafficList.vue'
import TryBox from '../components/TryBox.vue'
import { useSend } from '../form'
import { amountText, clockText, dayText, deviceState, linkNames, rhythm } from '../format'
import { useHub } from '../hub'
import { useTraffic } from '../traffic'

const hub = useHub()
const router = useRouter()
const id = String(useRoute().params.id)
const device = computed(() => hub.devices[id])
const signals = computed(() =>
  Object.values(hub.signals)
    .filter((s) => s.config.device === id)
    .sort((a, b) => a.config.id.localeCompare(b.config.id)),
)
const controls = computed(() =>
  Object.values(hub.controls)
    .filter((c) => c.config.device === id)
    .sort((a, b) => a.config.id.localeCompare(b.config.id)),
)
const traffic = hub.owner ? useTraffic(id) : null
const refusals = ref<Refusal[]>([])
const given = ref<DeviceWithKey | null>(null)
const remarks = ref<string[]>([])
const said = ref('')
const asking = ref<'' | 'key' | 'state' | 'remove' | 'model' | 'signal' | 'control'>('')
const history = ref<'keep' | 'delete'>('keep')
const stay = ref(false) // what an interlock forces
const forced = computed(() =>
  Object.values(hub.controls).filter(
    (c) =>
      (asking.value === 'control' ? c.config.id === going.value : c.config.device === id) &&
      c.state.step === 'interlock' &&
      amountText(c, c.state.want) !== amountText(c, c.config.safe),
  ),
)
const going = ref('') // the signal or switch that is to be removed
const modelName = ref('')
const newSwitch = ref('')
const newSignal = ref('')
const newKind = ref<'number' | 'onoff' | 'text'>('number')
const { failed, busy, send } = useSend()
const path = { params: { path: { id } } }

const load = () => hub.owner && send(async () => (refusals.value = await ask(api.GET('/devices/{id}/refusals', path))))
onMounted(load)
watch(() => device.value?.state.refused, load)
// How often it speaks changes with every message; that is asked for while somebody looks.
useIntervalFn(async () => {
  if (document.visibilityState === 'visible' && device.value)
    hub.devices[id] = await ask(api.GET('/devices/{id}', path)).catch(() => hub.devices[id]!)
}, 5000)

const newKey = () => send(async () => (given.value = await ask(api.POST('/devices/{id}/key', path))))
const setState = () =>
  send(
    async () =>
      (remarks.value = (
        await ask(
          api.PUT('/devices/{id}/state', {
            params: { path: { id }, query: { stay: stay.value } },
            body: { enabled: device.value!.config.state === 'disabled' },
          }),
        )
      ).remarks),
  )
const remove = () =>
  send(async () => {
    remarks.value = (
      await ask(api.DELETE('/devices/{id}', { params: { path: { id }, query: { history: history.value, stay: stay.value } } }))
    ).remarks
    if (history.value === 'delete' && !remarks.value.length) await router.push('/devices')
  })
const saveModel = () =>
  send(async () => {
    const m = await ask(api.POST('/devices/{id}/model', { ...path, body: { name: modelName.value } }))
    said.value = `Kept as the device model ${m.config.name}.`
  })
const removeOne = () =>
  send(async () => {
    const one = { params: { path: { id: going.value } } }
    if (asking.value === 'signal') await ask(api.DELETE('/signals/{id}', one))
    else remarks.value = (await ask(api.DELETE('/controls/{id}', { params: { ...one.params, query: { stay: stay.value } } }))).remarks
  })
const addSwitch = () =>
  send(async () => {
    await addPart('controls', { device: id, name: newSwitch.value })
    newSwitch.value = ''
  })
const addSignal = () =>
  send(async () => {
    await addPart('signals', { device: id, raw: newSignal.value, kind: newKind.value })
    newSignal.value = ''
  })
watch(asking, () => (stay.value = false))
function askRemoval(what: 'signal' | 'control', one: string) {
  going.value = one
  asking.value = what
}
const questions = computed(() => ({
  key: { title: 'Put another board in its place?', ok: 'New key', no: 'Keep the old one', do: newKey },
  state:
    device.value?.config.state === 'disabled'
      ? { title: 'Let it take part again?', ok: 'Enable', no: 'Not now', do: setState }
      : { title: 'Disable it?', ok: 'Disable', no: 'Not now', do: setState },
  remove: { title: `Remove ${device.value?.config.name}?`, ok: 'Remove it', no: 'Keep it', do: remove },
  model: { title: 'Keep its description as a model?', ok: 'Keep it', no: 'Not now', do: saveModel },
  signal: { title: `Remove ${hub.signals[going.value]?.config.name}?`, ok: 'Remove it', no: 'Keep it', do: removeOne },
  control: { title: `Remove ${hub.controls[going.value]?.config.name}?`, ok: 'Remove it', no: 'Keep it', do: removeOne },
}))
const question = computed(() => (asking.value ? questions.value[asking.value] : null))
</script>

<template>
  <main class="page stack">
    <template v-if="device">
      <div class="between">
        <div>
          <h1>{{ device.config.name }}</h1>
          <span class="soft"
            >{{ device.config.id }} · {{ hub.places.find((p) => p.id === device!.config.place)?.name }} ·
            {{ linkNames[device.config.link.kind] }}</span
          >
        </div>
        <div v-if="hub.owner" class="d-flex flex-wrap gap-2">
          <BButton variant="outline-secondary" size="sm" :disabled="busy" @click="asking = 'key'">{{
            device.config.state === 'removed' ? 'Bring it back' : 'New board'
          }}</BButton>
          <BButton
            v-if="device.config.state !== 'removed'"
            variant="outline-secondary"
            size="sm"
            :disabled="busy"
            @click="asking = 'state'"
            >{{ device.config.state === 'disabled' ? 'Enable' : 'Disable' }}</BButton
          >
          <BButton variant="outline-secondary" size="sm" :disabled="busy" @click="((modelName = device.config.name), (asking = 'model'))"
            >Save as model</BButton
          >
          <BButton
            variant="outline-secondary"
            size="sm"
            :disabled="busy"
            @click="((history = device.config.state === 'removed' ? 'delete' : 'keep'), (asking = 'remove'))"
            >Remove</BButton
          >
        </div>
      </div>
      <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
      <div v-if="busy" class="soft" role="status">Waiting for the hub and the device …</div>
      <div v-if="said" class="soft" role="status">{{ said }} <RouterLink to="/models">Device models</RouterLink></div>
      <div v-for="r in remarks" :key="r" class="note" role="alert">{{ r }}</div>
      <div v-if="device.config.state" class="note">
        {{
          device.config.state === 'disabled'
            ? 'It is disabled: it is neither heard nor told anything.'
            : 'It was removed. Its history is kept and can be seen in Charts; a new key brings it back.'
        }}
      </div>
      <ConnectCard v-if="given" :key="given.key" :given="given" />
      <section class="sheet facts">
        <div>
          <span class="soft small-text">State</span><br /><strong :class="{ 'warn-text': deviceState(device, hub.now).warn }">{{
            deviceState(device, hub.now).words
          }}</strong>
        </div>
        <div>
          <span class="soft small-text">Messages</span><br />{{ rhythm(device)
          }}<span v-if="device.state.messages" class="soft"> · {{ device.state.per_minute.toFixed(0) }} in the last minute</span>
        </div>
        <div>
          <span class="soft small-text">Last heard</span><br />{{
            device.state.last_heard ? dayText(Date.parse(device.state.last_heard), hub.zone) : 'never'
          }}
        </div>
        <div v-if="device.state.from">
          <span class="soft small-text">From</span><br />{{ device.state.from
          }}<span v-if="device.state.connections > 1" class="soft"> · {{ device.state.connections }} connections</span>
        </div>
        <div v-if="device.state.why"><span class="soft small-text">Why offline</span><br />{{ device.state.why }}</div>
        <div v-if="device.state.clock">
          <span class="soft small-text">Clock</span><br /><span class="warn-text">{{
            device.state.clock[0]!.toUpperCase() + device.state.clock.slice(1)
          }}</span>
        </div>
        <div>
          <span class="soft small-text">Lease</span><br />{{ device.config.lease_ms ? `${device.config.lease_ms / 1000} s` : 'none' }}
        </div>
        <div v-if="device.state.replaced"><span class="soft small-text">Replaced readings</span><br />{{ device.state.replaced }}</div>
      </section>
      <template v-if="hub.owner && device.config.state !== 'removed'">
        <section class="sheet">
          <h2 class="mb-2">Signals</h2>
          <p v-if="!signals.length" class="soft mb-0">
            None yet. They appear with the device's first message, or add them here and say where they come from.
          </p>
          <SignalEditor
            v-for="s in signals"
            :key="s.config.id"
            :signal="s"
            :link="device.config.link.kind"
            @remove="askRemoval('signal', s.config.id)" />
          <form class="d-flex gap-2 mt-3" @submit.prevent="addSignal">
            <BFormInput v-model="newSignal" aria-label="Name of a new signal" placeholder="Name of a new signal" required />
            <BFormSelect
              v-model="newKind"
              aria-label="Kind of the new signal"
              class="kind"
              :options="[
                { value: 'number', text: 'number' },
                { value: 'onoff', text: 'on/off' },
                { value: 'text', text: 'text' },
              ]" />
            <BButton type="submit" variant="outline-secondary" class="text-nowrap">Add</BButton>
          </form>
        </section>
        <section class="sheet">
          <h2 class="mb-2">Switches</h2>
          <p v-if="!controls.length" class="soft">
            None yet. One appears when the device reports what it is; for a device that does not, add it here.
          </p>
          <ControlEditor
            v-for="c in controls"
            :key="c.config.id"
            :control="c"
            :link="device.config.link.kind"
            @remove="askRemoval('control', c.config.id)" />
          <form class="d-flex gap-2 mt-3" @submit.prevent="addSwitch">
            <BFormInput v-model="newSwitch" aria-label="Name of a new switch" placeholder="Name of a new switch" required />
            <BButton type="submit" variant="outline-secondary" class="text-nowrap">Add</BButton>
          </form>
        </section>
        <TrafficList v-if="traffic" :messages="traffic.messages.value" :failed="traffic.failed.value" :known="traffic.known.value" />
        <TryBox v-if="traffic && device.config.link.kind !== 'modbus'" :device="device" :messages="traffic.messages.value" />
        <CameraForm :device="id" />
        <DeviceForm :device="device" />
        <StarterCode v-if="!given" :device="device.config.id" />
        <StarterCode v-else :key="given.key" :device="device.config.id" :password="given.key" />
        <section class="sheet">
          <div class="between mb-2">
            <h2>Refused</h2>
            <span class="soft small-text">{{ device.state.refused }} in all; the last 100 are kept</span>
          </div>
          <p v-if="!refusals.length" class="soft mb-0">Everything that this device sent could be taken.</p>
          <table v-else class="table cards">
            <thead>
              <tr>
                <th>At</th>
                <th>Topic</th>
                <th>Payload</th>
                <th>Why</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="r in refusals" :key="r.n">
                <td class="text-nowrap" :title="dayText(Date.parse(r.at), hub.zone)">
                  {{
                    clockText(Date.parse(r.at), hub.zone, {
                      day: '2-digit',
                      month: 'short',
                      hour: '2-digit',
                      minute: '2-digit',
                      second: '2-digit',
                    })
                  }}
                </td>
                <td>
                  <code>{{ r.topic }}</code>
                </td>
                <td>
                  <code>{{ r.payload || '(empty)' }}</code><span v-if="r.bytes > r.payload.length" class="soft small-text">
                    … {{ r.bytes }} bytes</span
                  >
                </td>
                <td>{{ r.reason }}</td>
              </tr>
            </tbody>
          </table>
        </section>
      </template>
      <BModal
        v-if="question"
        :model-value="true"
        :title="question.title"
        :ok-title="question.ok"
        :cancel-title="question.no"
        ok-variant="primary"
        cancel-variant="outline-secondary"
        @ok="question.do"
        @hidden="asking = ''">
        <template v-if="asking === 'key'"
          >Its switches are brought to their safe values first. The old key is void at once; the device stays offline until the board has
          the new one. Ids and history stay.</template
        >
        <template v-else-if="asking === 'state'">{{
          device.config.state === 'disabled'
            ? 'It is heard again with the key that it has.'
            : 'Its switches are brought to their safe values first. Then it is neither heard nor told anything until you enable it again.'
        }}</template>
        <template v-else-if="asking === 'remove'">
          <p>Its switches are brought to their safe values first.</p>
          <label class="d-flex gap-2"
            ><input v-model="history" type="radio" value="keep" :disabled="device.config.state === 'removed'" /> keep its history; it can be
            brought back</label
          >
          <label class="d-flex gap-2"><input v-model="history" type="radio" value="delete" /> delete its history as well, for ever</label>
        </template>
        <template v-else-if="asking === 'model'">
          <p>A model holds its signals, switches, mapping and calibration, so that more devices like it can be added at once.</p>
          <label class="d-block"><span class="soft small-text">Name of the model</span><BFormInput v-model="modelName" /></label>
        </template>
        <template v-else-if="asking === 'signal' || asking === 'control'">{{
          asking === 'signal' ? 'Its readings are deleted with it.' : 'It is brought to its safe value first. Its runs are deleted with it.'
        }}</template>
        <fieldset
          v-if="((asking === 'state' && !device.config.state) || asking === 'remove' || asking === 'control') && forced.length"
          class="mt-2">
          <legend class="small-text warn-text">
            An interlock forces {{ forced.map((c) => `${c.config.name} ${amountText(c, c.state.want)}`).join(', ') }} now. What shall it be
            left at?
          </legend>
          <label class="d-flex gap-2"><input v-model="stay" type="radio" :value="false" /> its safe value</label>
          <label class="d-flex gap-2"><input v-model="stay" type="radio" :value="true" /> what the interlock forces</label>
        </fieldset>
      </BModal>
    </template>
    <section v-else class="sheet">
      <h1>{{ hub.loaded ? 'There is no such device' : 'Asking the hub …' }}</h1>
      <RouterLink to="/devices">All devices</RouterLink>
    </section>
  </main>
</template>

<style scoped>
.kind {
  max-width: 130px;
}
</style>
