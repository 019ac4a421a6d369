<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { ref } from 'vue'
import { api, ask, HubError, sentence } from '../api'
import Field from '../components/Field.vue'
import Mark from '../components/Mark.vue'
import { useHub } from '../hub'

const hub = useHub()
const account = ref('')
const password = ref('')
const failed = ref('')
const code = ref('')
const coded = ref(false) // the account has a second factor
const busy = ref(false)

async function signIn() {
  busy.value = true
  failed.value = ''
  try {
    hub.enter(
      await ask(
        api.POST('/session', { body: { account: account.value.trim(), password: password.value, code: code.value.trim() || undefined } }),
      ),
    )
  } catch (e) {
    if (e instanceof HubError && e.field === 'code') {
      failed.value = coded.value ? sentence(e) : ''
      coded.value = true
      code.value = ''
      return
    }
    failed.value = sentence(e)
    password.value = code.value = ''
    coded.value = false
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <main class="page narrow">
    <form class="sheet stack" @submit.prevent="signIn">
      <h1 class="d-flex gap-2 align-items-center"><Mark /> Sign in</h1>
      <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
      <Field id="account" label="Account">
        <BFormInput id="account" v-model="account" autocomplete="username" autocapitalize="none" autofocus required />
      </Field>
      <Field id="password" label="Password" hint="Forgotten? An owner of this hub can set a new one under Household.">
        <BFormInput id="password" v-model="password" type="password" autocomplete="current-password" required />
      </Field>
      <Field v-if="coded" id="code" label="Code of your second factor" hint="From the app on your phone, or one of the recovery codes.">
        <BFormInput id="code" v-model="code" autocomplete="one-time-code" inputmode="numeric" autofocus required />
      </Field>
      <BButton type="submit" variant="primary" :disabled="busy">{{ busy ? 'Signing in …' : 'Sign in' }}</BButton>
    </form>
  </main>
</template>

<style scoped>
.narrow {
  max-width: 440px;
  padding-top: min(12vh, 90px);
}
</style>
