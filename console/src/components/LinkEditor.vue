<script setup lang="ts">
// How a device speaks with the hub.
import { BFormCheckbox } from 'bootstrap-vue-next/components/BFormCheckbox'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { computed, onMounted, ref } from 'vue'
import { listParts, type Broker, type Link } from '../api'
import { num } from '../form'
import { linkNames } from '../format'
import RegisterFields from './RegisterFields.vue'
import SourceEditor from './SourceEditor.vue'

const model = defineModel<Link>({ required: true })
const brokers = ref<Broker[] | null>(null)
onMounted(async () => (brokers.value = await listParts<Broker>('brokers').catch(() => null)))
const kinds = Object.entries(linkNames).map(([value, text]) => ({ value, text }))
const kind = computed(() => model.value.kind)
const asked = computed(() => kind.value === 'modbus' || kind.value === 'poll')
const address = computed(
  () =>
    (
      ({
        modbus: ['Its address', '192.168.1.20:502'],
        lines: ['Its serial port or address', '/dev/ttyUSB0 or 192.168.1.20:4001'],
        poll: ['The page', 'http://192.168.1.20/values.json'],
        udp: ['Its address, where it cannot send a key', '192.168.1.40:5005'],
      }) as Record<string, [string, string]>
    )[kind.value],
)
function change(part: Partial<Link>) {
  const next: Record<string, unknown> = { ...model.value, ...part }
  for (const [key, v] of Object.entries(next)) if (v === '' || v === undefined || v === false || v === 0) delete next[key]
  model.value = next as Link
}
</script>

<template>
  <div class="fields">
    <label
      ><span>It speaks over</span
      ><BFormSelect :model-value="kind" :options="kinds" @update:model-value="(v) => (model = { kind: v as Link['kind'] })"
    /></label>
    <label v-if="address"
      ><span>{{ address[0] }}</span
      ><BFormInput :placeholder="address[1]" :model-value="model.address ?? ''" @update:model-value="(v) => change({ address: String(v) })"
    /></label>
    <label v-if="kind === 'outside'"
      ><span>Broker</span
      ><BFormSelect
        :model-value="model.broker ?? ''"
        :options="(brokers ?? []).map((b) => ({ value: b.config.id, text: b.config.name }))"
        @update:model-value="(v) => change({ broker: String(v) })"
    /></label>
    <label v-if="asked" class="short"
      ><span>Asked every, s</span
      ><BFormInput
        type="number"
        min="0.1"
        step="any"
        :placeholder="kind === 'poll' ? '900' : '5'"
        :model-value="model.interval_ms ? model.interval_ms / 1000 : ''"
        @update:model-value="(v) => change({ interval_ms: num(v) ? Math.round(num(v)! * 1000) : undefined })"
    /></label>
    <label v-if="kind === 'modbus'" class="short"
      ><span>Unit id</span
      ><BFormInput type="number" min="0" max="255" :model-value="model.unit ?? 0" @update:model-value="(v) => change({ unit: num(v) })"
    /></label>
    <label v-if="kind === 'lines' && model.address?.startsWith('/')" class="short"
      ><span>Speed, baud</span
      ><BFormInput type="number" placeholder="9600" :model-value="model.baud ?? ''" @update:model-value="(v) => change({ baud: num(v) })"
    /></label>
    <label v-if="kind === 'poll'" class="short"
      ><span>Lines before a CSV header</span
      ><BFormInput
        type="number"
        min="0"
        placeholder="0"
        :model-value="model.skip ?? ''"
        @update:model-value="(v) => change({ skip: num(v) })"
    /></label>
    <BFormCheckbox v-if="kind === 'poll'" :model-value="!!model.inside" @update:model-value="(v) => change({ inside: !!v || undefined })"
      >it is an address in the house</BFormCheckbox
    >
    <BFormCheckbox v-if="kind === 'http'" :model-value="!!model.query_key" @update:model-value="(v) => change({ query_key: !!v })"
      >its key may stand in the address (weakest boards)</BFormCheckbox
    >
  </div>
  <p v-if="kind === 'outside' && brokers && !brokers.length" class="soft small-text mb-0">
    There is no broker elsewhere yet; add one in <RouterLink to="/settings">Settings</RouterLink>.
  </p>
  <details v-if="kind === 'mqtt' || kind === 'outside'" :open="!!model.presence">
    <summary>Presence from a topic of its own</summary>
    <p class="soft small-text mb-1">For devices with a fixed firmware: the topic on which their last will says whether they are there.</p>
    <SourceEditor
      :link="kind"
      onoff
      :model-value="model.presence ?? {}"
      @update:model-value="(v) => change({ presence: v.topic ? v : undefined })" />
  </details>
  <details v-if="kind === 'modbus'" :open="!!model.watchdog">
    <summary>Watchdog register</summary>
    <p class="soft small-text mb-1">The hub writes the lease in seconds there with every beat.</p>
    <RegisterFields writes :model-value="model.watchdog" @update:model-value="(watchdog) => change({ watchdog })" />
  </details>
</template>
