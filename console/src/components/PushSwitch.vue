<script setup lang="ts">
// Lets this console take pushes, or ends that. It needs the owner to have switched them on.
import { onMounted, ref } from 'vue'
import { api, ask, sentence } from '../api'

const able = 'serviceWorker' in navigator && 'PushManager' in window
const key = ref('')
const on = ref(false)
const busy = ref(false)
const failed = ref('')
onMounted(async () => {
  if (!able) return
  try {
    const got = await ask(api.GET('/subscriptions'))
    key.value = got.on ? got.key : ''
    if (key.value) on.value = !!(await (await navigator.serviceWorker.ready).pushManager.getSubscription())
  } catch {
    /* then there is nothing to switch */
  }
})
const bytes = (s: string) => Uint8Array.from(atob(s.replace(/-/g, '+').replace(/_/g, '/')), (c) => c.charCodeAt(0))
async function change() {
  busy.value = true
  failed.value = ''
  try {
    const manager = (await navigator.serviceWorker.ready).pushManager
    const have = await manager.getSubscription()
    if (have) {
      await ask(api.POST('/subscriptions/end', { body: { endpoint: have.endpoint } }))
      await have.unsubscribe()
    } else {
      const s = (await manager.subscribe({ userVisibleOnly: true, applicationServerKey: bytes(key.value) })).toJSON()
      await ask(api.POST('/subscriptions', { body: { endpoint: s.endpoint!, p256dh: s.keys!.p256dh!, auth: s.keys!.auth! } }))
    }
    on.value = !have
  } catch (e) {
    failed.value = e instanceof DOMException ? `The browser does not let it: ${e.message}` : sentence(e)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <p v-if="key" class="mb-2 d-flex flex-wrap gap-2 align-items-center">
    <button type="button" class="btn btn-outline-secondary btn-sm" :disabled="busy" :aria-pressed="on" @click="change">
      {{ on ? 'No more messages to this device' : 'Messages to this device' }}
    </button>
    <span class="small-text" :class="failed ? 'warn-text' : 'soft'" role="status">{{
      failed || (on ? 'It takes those of your routes that go by push.' : '')
    }}</span>
  </p>
</template>
