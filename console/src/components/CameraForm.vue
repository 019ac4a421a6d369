<script setup lang="ts">
// Where a still picture of what a device sees is to be had, and the pictures.
import { onMounted, reactive, ref } from 'vue'
import { keepPart, type Device } from '../api'
import { useSend } from '../form'
import { useHub } from '../hub'
import StillView from './StillView.vue'

const props = defineProps<{ device: string }>()
const hub = useHub()
const form = reactive({ address: '', inside: false, keep: '7', guests: false, account: '', password: '' })
const kept = ref(false)
const opened = ref(false)
const { failed, saved, busy, send } = useSend()
onMounted(() => {
  const d = hub.devices[props.device]
  const c = d?.config.camera
  kept.value = !!d?.state.camera_password
  if (c)
    Object.assign(form, {
      account: c.account ?? '',
      address: c.address ?? '',
      inside: !!c.inside,
      keep: String(c.keep_days || 7),
      guests: c.guests === 'see',
    })
})
const save = () =>
  send(async () => {
    const d = hub.devices[props.device]!
    const camera = form.address
      ? {
          address: form.address.trim(),
          account: form.account.trim() || undefined,
          inside: form.inside,
          keep_days: Number(form.keep),
          guests: form.guests ? ('see' as const) : ('none' as const),
        }
      : undefined
    const now = (await keepPart(
      'devices',
      { ...d.config, camera, camera_password: form.password || (form.account ? undefined : null) },
      d.version,
    )) as Device
    hub.devices[props.device] = now
    kept.value = now.state.camera_password
    form.password = ''
  })
</script>

<template>
  <section class="sheet" aria-label="Camera">
    <div class="between mb-2">
      <h2>Camera</h2>
      <button v-if="hub.owner && !opened" type="button" class="btn btn-outline-secondary btn-sm" @click="opened = true">
        {{ form.address ? 'Change' : 'Add one' }}
      </button>
    </div>
    <p v-if="!form.address && !opened" class="soft mb-0">
      None. A device that gives a JPEG at an address can show what it sees: on a tile, on this page, and in the mail of an alert.
    </p>
    <StillView v-if="hub.devices[device]?.state.camera" :device="device" all class="pictures" />
    <form v-if="opened" class="fields mt-2" @submit.prevent="save">
      <label
        ><span>Address of the picture</span
        ><input v-model="form.address" class="form-control" type="url" placeholder="http://192.168.1.30/still.jpg" maxlength="500"
      /></label>
      <label class="short"
        ><span>Kept for, days</span><input v-model="form.keep" class="form-control" type="number" min="1" max="3650"
      /></label>
      <label class="short"
        ><span>Account, if it asks</span><input v-model="form.account" class="form-control" autocomplete="off" maxlength="200"
      /></label>
      <label class="short"
        ><span>Password{{ kept ? ' (one is kept)' : '' }}</span
        ><input v-model="form.password" class="form-control" type="password" autocomplete="new-password" maxlength="200"
      /></label>
      <label class="check"><input v-model="form.inside" type="checkbox" class="form-check-input" /> it is an address in the house</label>
      <label class="check"><input v-model="form.guests" type="checkbox" class="form-check-input" /> guests see the pictures</label>
      <button class="btn btn-outline-secondary" :disabled="busy">Save</button>
      <span class="small-text" :class="failed ? 'warn-text' : 'soft'" role="status">{{ failed || (saved ? 'saved' : '') }}</span>
    </form>
  </section>
</template>

<style scoped>
.pictures {
  max-width: 640px;
}
.check {
  display: flex;
  gap: 8px;
  align-items: center;
}
</style>
