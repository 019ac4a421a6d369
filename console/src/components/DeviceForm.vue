<script setup lang="ts">
// A device's name, place, link, lease, schedule and limits.
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormCheckbox } from 'bootstrap-vue-next/components/BFormCheckbox'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { reactive, ref, watch } from 'vue'
import { keepPart, type Device, type Link } from '../api'
import { num, useSend } from '../form'
import { useHub } from '../hub'
import LinkEditor from './LinkEditor.vue'

const props = defineProps<{ device: Device }>()
const hub = useHub()
const form = reactive({ name: '', place: '', lease: '', wakes: '', fresh: true, bytes: '', second: '', names: '' })
const link = ref<Link>({ kind: 'mqtt' })
const { failed, saved, busy, send } = useSend()
watch(
  () => props.device.version,
  () => {
    const d = props.device
    Object.assign(form, {
      name: d.config.name,
      place: hub.places.find((p) => p.id === d.config.place)?.name ?? d.config.place,
      lease: d.config.lease_ms ? d.config.lease_ms / 1000 : '',
      wakes: d.config.wakes_ms ? d.config.wakes_ms / 60_000 : '',
      fresh: d.config.new_signals,
      bytes: d.state.limits.max_bytes ?? '',
      second: d.state.limits.per_second ?? '',
      names: d.state.limits.max_names ?? '',
    })
    link.value = { ...d.config.link }
  },
  { immediate: true },
)
const save = () =>
  send(() =>
    keepPart(
      'devices',
      {
        ...props.device.config,
        name: form.name,
        place: form.place,
        link: link.value,
        lease_ms: Math.round((num(form.lease) ?? 0) * 1000),
        wakes_ms: Math.round((num(form.wakes) ?? 0) * 60_000),
        new_signals: form.fresh,
        limits: { max_bytes: num(form.bytes), per_second: num(form.second), max_names: num(form.names) },
      },
      props.device.version,
    ),
  )
</script>

<template>
  <form class="sheet stack tight" @submit.prevent="save">
    <h2>Name, place and link</h2>
    <div class="fields">
      <label><span>Name</span><BFormInput v-model="form.name" required /></label>
      <label><span>Place</span><BFormInput v-model="form.place" required list="all-places" /></label>
      <datalist id="all-places"><option v-for="p in hub.places" :key="p.id" :value="p.name" /></datalist>
    </div>
    <LinkEditor v-model="link" />
    <div class="fields">
      <label class="short"
        ><span>Lease, s</span><BFormInput v-model="form.lease" type="number" min="0" step="any" placeholder="none"
      /></label>
      <label class="short"
        ><span>Wakes every, min</span><BFormInput v-model="form.wakes" type="number" min="0" step="any" placeholder="awake"
      /></label>
      <label class="short"><span>Messages a second</span><BFormInput v-model="form.second" type="number" min="1" /></label>
      <label class="short"><span>Bytes a message</span><BFormInput v-model="form.bytes" type="number" min="16" max="65536" /></label>
      <label class="short"><span>Signals and switches</span><BFormInput v-model="form.names" type="number" min="1" max="1000" /></label>
    </div>
    <BFormCheckbox v-model="form.fresh">it may bring new signals by itself</BFormCheckbox>
    <div class="d-flex gap-3 align-items-center">
      <BButton type="submit" variant="primary" :disabled="busy">Save</BButton
      ><span role="status" :class="failed ? 'warn-text' : 'soft'">{{ failed || (saved ? 'saved' : '') }}</span>
    </div>
  </form>
</template>
