<script setup lang="ts">
// Where an invitation leads: somebody new chooses account and password, a member a new password.
import { onMounted, reactive, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, HubError, sentence, type Invited } from '../api'
import Field from '../components/Field.vue'
import Icon from '../components/Icon.vue'
import Mark from '../components/Mark.vue'
import { useSend } from '../form'
import { clockText } from '../format'
import { useHub } from '../hub'

const code = location.hash.slice(1)
const hub = useHub()
const router = useRouter()
const it = ref<Invited | null>(null)
const trouble = ref('')
const form = reactive({ name: '', account: '', password: '' })
const { failed, field, busy, send } = useSend()
async function load() {
  trouble.value = ''
  if (!code) {
    trouble.value = 'The address is not whole: what stands behind the # is missing. Open the invitation again.'
    return
  }
  try {
    it.value = await ask(api.POST('/joining', { body: { code } }))
    form.name = it.value.name
  } catch (e) {
    trouble.value = sentence(e)
  }
}
onMounted(load)
const set = ref(false) // the password is, and the second factor is asked for at signing in
const join = () =>
  send(async () => {
    const me = await ask(
      api.PUT('/joining', {
        body: { code, account: it.value!.account ? undefined : form.account.trim(), name: form.name || undefined, password: form.password },
      }),
    ).catch((e: unknown) => {
      if (!(e instanceof HubError && e.field === 'code')) throw e
      set.value = true
    })
    if (!me) return
    hub.forget()
    hub.known = true
    hub.enter(me)
    await router.replace('/')
  })
const day = (t: string) =>
  clockText(Date.parse(t), Intl.DateTimeFormat().resolvedOptions().timeZone, {
    weekday: 'short',
    day: 'numeric',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
  })
</script>

<template>
  <main class="page narrow">
    <form class="sheet stack tight" :aria-busy="!it && !trouble" @submit.prevent="join">
      <h1 class="d-flex gap-2 align-items-center"><Mark /> {{ it ? it.hub : 'An invitation' }}</h1>
      <div v-if="trouble" class="note bad" role="alert">
        <Icon name="away" :size="20" />
        <div>{{ trouble }}</div>
      </div>
      <p v-if="set" class="mb-0" role="status">The password is set. <a href="/">Sign in</a> with it and the code of your second factor.</p>
      <template v-else-if="it">
        <p class="mb-0">
          {{
            it.account
              ? `A new password for ${it.name} (${it.account}).`
              : `${it.by} invites you to this house as ${it.role === 'owner' ? 'an owner' : `a ${it.role}`}${it.until ? `, until ${day(it.until)}` : ''}.`
          }}
        </p>
        <template v-if="!it.account">
          <Field id="name" label="Your name" :error="field === 'name' ? failed : ''"
            ><input id="name" v-model="form.name" class="form-control" autocomplete="name" maxlength="80" required
          /></Field>
          <Field id="account" label="Account" hint="Small letters, for signing in" :error="field === 'account' ? failed : ''"
            ><input
              id="account"
              v-model="form.account"
              class="form-control"
              autocapitalize="none"
              autocomplete="username"
              maxlength="60"
              required
          /></Field>
        </template>
        <Field
          id="password"
          label="Password"
          hint="At least 12 characters; a few words are fine"
          :error="field === 'password' ? failed : ''"
          ><input id="password" v-model="form.password" class="form-control" type="password" autocomplete="new-password" required
        /></Field>
        <div v-if="failed && !['name', 'account', 'password'].includes(field)" class="note bad" role="alert">{{ failed }}</div>
        <button class="btn btn-primary" :disabled="busy">
          {{ busy ? 'Telling the hub …' : it.account ? 'Set it and sign in' : 'Join' }}
        </button>
        <p class="soft small-text mb-0">The invitation works once, until {{ day(it.expires) }}.</p>
      </template>
    </form>
  </main>
</template>

<style scoped>
.narrow {
  max-width: 440px;
  padding-top: min(12vh, 90px);
}
</style>
