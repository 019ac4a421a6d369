<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { computed, reactive, ref } from 'vue'
import { api, ask, HubError, sentence } from '../api'
import Field from '../components/Field.vue'
import Mark from '../components/Mark.vue'
import { useHub } from '../hub'

const hub = useHub()
const here = Intl.DateTimeFormat().resolvedOptions().timeZone
const form = reactive({
  code: '',
  account: '',
  password: '',
  name: '',
  zone: hub.zones.includes(here) ? here : 'UTC',
  latitude: '',
  longitude: '',
})
const failed = ref('')
const field = ref('')
const busy = ref(false)
const opened = computed(() => location.hostname !== 'localhost' && !location.hostname.startsWith('127.'))
const zones = computed(() => hub.zones.map((z) => ({ value: z, text: z.replace(/_/g, ' ') })))

async function begin() {
  busy.value = true
  failed.value = field.value = ''
  try {
    const me = await ask(
      api.POST('/setup', {
        body: {
          code: form.code,
          name: form.name,
          account: form.account.trim(),
          password: form.password,
          zone: form.zone,
          latitude: Number(form.latitude),
          longitude: Number(form.longitude),
        },
      }),
    )
    hub.enter(me)
  } catch (e) {
    failed.value = sentence(e)
    field.value = e instanceof HubError ? (e.field ?? '') : ''
    if (e instanceof HubError && e.status === 409) await hub.begin()
  } finally {
    busy.value = false
  }
}
const error = (f: string) => (field.value === f ? failed.value : '')
</script>

<template>
  <main class="page narrow">
    <form class="sheet stack" @submit.prevent="begin">
      <div>
        <h1 class="d-flex gap-2 align-items-center"><Mark /> Welcome</h1>
        <p class="soft mb-0 mt-2">
          This hub has no owner yet. Become its owner with the one-time code that stands in the terminal in which the hub was started.
        </p>
      </div>
      <div v-if="failed && !field" class="note bad" role="alert">{{ failed }}</div>
      <Field id="code" label="Setup code" :error="error('code')"
        ><BFormInput id="code" v-model="form.code" autocomplete="one-time-code" autocapitalize="none" spellcheck="false" required autofocus
      /></Field>
      <div class="pair">
        <Field id="account" label="Your account" hint="Small letters, for signing in" :error="error('account')"
          ><BFormInput id="account" v-model="form.account" autocomplete="username" autocapitalize="none" required
        /></Field>
        <Field id="password" label="Password" hint="At least 12 characters; a few words are fine" :error="error('password')"
          ><BFormInput id="password" v-model="form.password" type="password" autocomplete="new-password" required minlength="12"
        /></Field>
      </div>
      <Field id="name" label="Name of this hub" hint="What the house or workshop is called" :error="error('name')"
        ><BFormInput id="name" v-model="form.name" required
      /></Field>
      <Field id="zone" label="Time zone" :error="error('zone')"><BFormSelect id="zone" v-model="form.zone" :options="zones" /></Field>
      <div class="pair">
        <Field id="latitude" label="Latitude" hint="Degrees, north positive; for sunrise and sunset" :error="error('latitude')"
          ><BFormInput id="latitude" v-model="form.latitude" type="number" step="any" min="-90" max="90" required
        /></Field>
        <Field id="longitude" label="Longitude" hint="Degrees, east positive; it stays in the hub" :error="error('longitude')"
          ><BFormInput id="longitude" v-model="form.longitude" type="number" step="any" min="-180" max="180" required
        /></Field>
      </div>
      <p v-if="!opened" class="soft small-text mb-0">
        The hub listens to this computer alone. To open it to phones and boards in the house, stop it and start it with
        <code>idleember serve --http :8480 --mqtt :1883</code>. You find this again under Settings.
      </p>
      <BButton type="submit" variant="primary" :disabled="busy">{{ busy ? 'One moment …' : 'Begin' }}</BButton>
    </form>
  </main>
</template>

<style scoped>
.narrow {
  max-width: 620px;
  padding-top: 28px;
}
.pair {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(220px, 1fr));
  gap: 14px;
}
</style>
