<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { onMounted, reactive, ref } from 'vue'
import { api, ask, HubError, sentence, type Member } from '../api'
import Field from '../components/Field.vue'
import { useHub, useOnly } from '../hub'

const hub = useHub()
useOnly(() => [])
const members = ref<Member[]>([])
const failed = ref('')
const field = ref('')
const adding = ref(false)
const form = reactive({ account: '', name: '', role: 'member' as Member['role'], password: '' })
const roles = [
  { value: 'owner', text: 'owner: may do everything' },
  { value: 'member', text: 'member: sees and switches everything' },
  { value: 'guest', text: 'guest: only what is opened to guests' },
]

async function act(f: () => Promise<unknown>) {
  failed.value = field.value = ''
  try {
    await f()
  } catch (e) {
    failed.value = sentence(e)
    field.value = e instanceof HubError ? (e.field ?? '') : ''
  }
}
const load = async () => { members.value = await ask(api.GET('/members')) }
onMounted(() => act(load))
const add = () => act(async () => {
  await ask(api.POST('/members', { body: { account: form.account.trim(), name: form.name || form.account, role: form.role, password: form.password } }))
  Object.assign(form, { account: '', name: '', role: 'member', password: '' })
  adding.value = false
  await load()
})
const renewing = ref<Member | null>(null)
const renewed = ref('')
const fresh = ref('')
const change = (m: Member, body: { role?: Member['role']; locked?: boolean; password?: string }) => act(async () => {
  try {
    await ask(api.PATCH('/members/{account}', { params: { path: { account: m.account }, header: { 'If-Match': m.version } }, body }))
  } finally {
    await load()
  }
})
async function renew() {
  const m = renewing.value!
  await change(m, { password: fresh.value })
  fresh.value = ''
  if (failed.value) return
  renewed.value = `${m.name} has the new password and is signed out everywhere.`
  renewing.value = null
}
</script>

<template>
  <main class="page">
    <div class="between mb-3">
      <h1>Household</h1>
      <BButton v-if="!adding" variant="primary" @click="adding = true">Add a person</BButton>
    </div>
    <div v-if="failed && !adding" class="note bad mb-3" role="alert">{{ failed }}</div>
    <form v-if="adding" class="sheet stack mb-3" @submit.prevent="add">
      <h2>Add a person</h2>
      <div v-if="failed && !field" class="note bad" role="alert">{{ failed }}</div>
      <div class="pair">
        <Field id="name" label="Name" :error="field === 'name' ? failed : ''"><BFormInput id="name" v-model="form.name" autofocus required /></Field>
        <Field id="account" label="Account" hint="Small letters, for signing in" :error="field === 'account' ? failed : ''"><BFormInput id="account" v-model="form.account" autocapitalize="none" autocomplete="off" required /></Field>
        <Field id="role" label="Role"><BFormSelect id="role" v-model="form.role" :options="roles" /></Field>
        <Field id="password" label="First password" hint="At least 10 characters" :error="field === 'password' ? failed : ''"><BFormInput id="password" v-model="form.password" type="password" autocomplete="new-password" required /></Field>
      </div>
      <div class="d-flex gap-2"><BButton type="submit" variant="primary">Add</BButton><BButton variant="outline-secondary" @click="adding = false">Not now</BButton></div>
    </form>
    <form v-if="renewing" class="sheet stack mb-3" @submit.prevent="renew">
      <Field id="fresh" :label="`New password for ${renewing.name}`" hint="At least 10 characters. Open sessions and tokens of the account end." :error="field === 'password' ? failed : ''"><BFormInput id="fresh" v-model="fresh" type="password" autocomplete="new-password" autofocus required /></Field>
      <div class="d-flex gap-2"><BButton type="submit" variant="primary">Set it</BButton><BButton variant="outline-secondary" @click="renewing = null">Not now</BButton></div>
    </form>
    <p v-if="renewed" role="status" class="soft">{{ renewed }}</p>
    <section class="sheet">
      <table class="table cards">
        <thead><tr><th>Name</th><th>Account</th><th>Role</th><th></th></tr></thead>
        <tbody>
          <tr v-for="m in members" :key="m.account">
            <td><strong>{{ m.name }}</strong> <span v-if="m.account === hub.me?.account" class="soft small-text">you</span></td>
            <td class="soft">{{ m.account }}</td>
            <td><BFormSelect :model-value="m.role" :options="roles" :aria-label="`Role of ${m.name}`" @update:model-value="(r) => change(m, { role: r as Member['role'] })" /></td>
            <td class="num"><span v-if="m.locked" class="warn-text me-2">locked</span><BButton size="sm" variant="outline-secondary" class="me-2" @click="renewing = m">New password</BButton><BButton size="sm" variant="outline-secondary" @click="change(m, { locked: !m.locked })">{{ m.locked ? 'Unlock' : 'Lock' }}</BButton></td>
          </tr>
        </tbody>
      </table>
    </section>
    <p class="soft small-text mt-3">What guests see and may switch is chosen for each signal and switch on its device's page.</p>
  </main>
</template>

<style scoped>
.pair { display: grid; grid-template-columns: repeat(auto-fit, minmax(240px, 1fr)); gap: 14px; }
</style>
