<script setup lang="ts">
// What the hub offers to a Modbus panel on the wall.
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormCheckbox } from 'bootstrap-vue-next/components/BFormCheckbox'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { computed, onMounted, ref } from 'vue'
import { api, ask, keepSole, type Panel, type Register } from '../api'
import { useSend, words } from '../form'
import { useHub } from '../hub'
import RegisterFields from './RegisterFields.vue'

const hub = useHub()
const panel = ref<Panel>({ on: false, address: '0.0.0.0:1502', allow: [], points: [] })
const version = ref('')
const more = ref('')
const { failed, saved, busy, send } = useSend()
const show = (r: { config: Panel; version: string }) => {
  panel.value = { ...r.config, address: r.config.address || '0.0.0.0:1502' }
  version.value = r.version
}
onMounted(async () => {
  await send(async () => show(await ask(api.GET('/panel'))))
  saved.value = false
})
const options = computed(() => [
  { value: '', text: 'Add a signal or switch …' },
  ...[...Object.values(hub.signals).filter((s) => s.config.kind !== 'text'), ...Object.values(hub.controls)]
    .map((x) => ({ value: x.config.id, text: `${x.config.name} (${x.config.id})` }))
    .sort((a, b) => a.text.localeCompare(b.text)),
])
function add() {
  if (!more.value) return
  const control = !!hub.controls[more.value] || hub.signals[more.value]?.config.kind === 'onoff'
  const table = hub.controls[more.value] ? 'coil' : control ? 'discrete' : 'input'
  const taken = panel.value.points
    .filter((p) => p.register.table === table)
    .map((p) => p.register.address + (p.register.type?.endsWith('32') ? 2 : 1))
  const register: Register = { table, address: Math.max(0, ...taken) }
  if (table === 'input') Object.assign(register, { type: 's16', scale: 0.1 })
  panel.value.points.push({ id: more.value, register, write: !!hub.controls[more.value] })
  more.value = ''
}
const save = () => send(async () => show(await keepSole('/panel', panel.value, version.value)))
</script>

<template>
  <form class="sheet stack tight" @submit.prevent="save">
    <h2>Modbus panel</h2>
    <p class="soft small-text mb-0">
      The hub can be a Modbus TCP server for a panel on the wall. Only what is listed can be read, only switches marked so can be written,
      and only from the addresses given.
    </p>
    <BFormCheckbox v-model="panel.on" switch>on</BFormCheckbox>
    <div class="fields">
      <label><span>Listens at</span><BFormInput v-model="panel.address" /></label>
      <label
        ><span>Panels' addresses or networks</span
        ><BFormInput
          :model-value="panel.allow.join(', ')"
          placeholder="192.168.1.30"
          @change="(e: Event) => (panel.allow = words((e.target as HTMLInputElement).value))"
      /></label>
    </div>
    <div v-for="(p, i) in panel.points" :key="i" class="point">
      <div class="between">
        <strong>{{ p.id }}</strong><span class="d-flex gap-3"
          ><BFormCheckbox v-if="hub.controls[p.id]" v-model="p.write">may be written</BFormCheckbox
          ><button type="button" class="bare small-text" :aria-label="`Leave ${p.id} out`" @click="panel.points.splice(i, 1)">
            leave out
          </button></span
        >
      </div>
      <RegisterFields :model-value="p.register" @update:model-value="(r) => (r ? (p.register = r) : panel.points.splice(i, 1))" />
    </div>
    <BFormSelect v-model="more" size="sm" :options="options" aria-label="Add a signal or switch" @change="add" />
    <div class="d-flex gap-3 align-items-center">
      <BButton type="submit" size="sm" variant="primary" :disabled="busy">Save</BButton
      ><span role="status" :class="failed ? 'warn-text' : 'soft'">{{ failed || (saved ? 'saved' : '') }}</span>
    </div>
  </form>
</template>

<style scoped>
.point {
  border-top: 1px solid var(--line);
  padding-top: 8px;
}
.bare {
  border: 0;
  background: none;
  color: var(--ink);
  text-decoration: underline;
  min-height: 30px;
}
</style>
