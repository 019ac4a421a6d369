<script setup lang="ts">
// Asks for the password again, over whatever page asked for it.
import { computed, ref, watch } from 'vue'
import { api, ask } from '../api'
import { useSend } from '../form'
import { Modal } from '../once'
import { askAgain, waiting } from '../proof'

askAgain()
const password = ref('')
const { failed, busy, send } = useSend()
// One that is still closing gives up its own question, not the next one.
const giveUp = computed(() => {
  const asks = waiting.value
  return () => asks?.(false)
})
watch(waiting, () => {
  password.value = failed.value = ''
})
async function give() {
  if (await send(() => ask(api.POST('/session/proof', { body: { password: password.value } })))) waiting.value?.(true)
}
</script>

<template>
  <Modal v-if="waiting" :model-value="true" title="Your password, please" no-footer focus="input" @hidden="giveUp">
    <form class="stack" @submit.prevent="give">
      <p class="mb-0">This changes how somebody signs in, so the hub wants to be sure that it is you.</p>
      <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
      <label
        ><span>Password</span><input v-model="password" class="form-control" type="password" autocomplete="current-password" required
      /></label>
      <div class="d-flex gap-2">
        <button class="btn btn-primary" :disabled="busy">Go on</button
        ><button type="button" class="btn btn-outline-secondary" @click="giveUp">Cancel</button>
      </div>
    </form>
  </Modal>
</template>
