<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { onMounted, reactive, ref } from 'vue'
import { api, ask, HubError, sentence, type Member } from '../api'
import Field from '../components/Field.vue'
import InviteCard from '../components/InviteCard.vue'
import RightsCard from '../components/RightsCard.vue'
import { clockText } from '../format'
import { zonedInstant, zonedText } from '../zoned'
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
const load = async () => {
  members.value = await ask(api.GET('/members'))
}
function invited() {
  inviting.value = false
  void load()
}
onMounted(() => act(load))
const add = () =>
  act(async () => {
    await ask(
      api.POST('/members', {
        body: { account: form.account.trim(), name: form.name || form.account, role: form.role, password: form.password },
      }),
    )
    Object.assign(form, { account: '', name: '', role: 'member', password: '' })
    adding.value = false
    await load()
  })
const inviting = ref(false)
const renewing = ref(false)
const more = ref('') // the account of which more is shown
const told = ref('')
const change = (m: Member, body: { role?: Member['role']; locked?: boolean; until?: string; endless?: boolean; factor?: false }) =>
  act(async () => {
    try {
      await ask(api.PATCH('/members/{account}', { params: { path: { account: m.account }, header: { 'If-Match': m.version } }, body }))
    } finally {
      await load()
    }
  })
const out = (m: Member) =>
  act(async () => {
    await ask(api.DELETE('/members/{account}/sessions', { params: { path: { account: m.account } } }))
    told.value = `${m.name} is signed out everywhere.`
  })
const going = ref('') // asked once more before somebody goes
const remove = (m: Member) =>
  act(async () => {
    if (going.value !== m.account) {
      going.value = m.account
      return
    }
    await ask(api.DELETE('/members/{account}', { params: { path: { account: m.account } } }))
    more.value = going.value = ''
    told.value = `${m.name} is no longer of the household.`
    await load()
  })
const seen = (m: Member) =>
  m.seen
    ? 'here ' + clockText(Date.parse(m.seen), hub.zone, { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' })
    : 'never here'
const until = (m: Member) => (m.until ? zonedText(Date.parse(m.until), hub.zone).slice(0, 16) : '')
const ends = (m: Member, text: string) =>
  change(m, text ? { until: new Date(zonedInstant(text, hub.zone)).toISOString() } : { endless: true })
</script>

<template>
  <main class="page">
    <div class="between mb-3">
      <h1>Household</h1>
      <div v-if="!adding && !inviting" class="d-flex gap-2">
        <BButton variant="primary" @click="inviting = true">Invite</BButton
        ><BButton variant="outline-secondary" @click="adding = true">Add a person</BButton>
      </div>
    </div>
    <div v-if="failed && !adding" class="note bad mb-3" role="alert">{{ failed }}</div>
    <form v-if="adding" class="sheet stack mb-3" @submit.prevent="add">
      <h2>Add a person</h2>
      <div v-if="failed && !field" class="note bad" role="alert">{{ failed }}</div>
      <div class="pair">
        <Field id="name" label="Name" :error="field === 'name' ? failed : ''"
          ><BFormInput id="name" v-model="form.name" autofocus required
        /></Field>
        <Field id="account" label="Account" hint="Small letters, for signing in" :error="field === 'account' ? failed : ''"
          ><BFormInput id="account" v-model="form.account" autocapitalize="none" autocomplete="off" required
        /></Field>
        <Field id="role" label="Role"><BFormSelect id="role" v-model="form.role" :options="roles" /></Field>
        <Field id="password" label="First password" hint="At least 12 characters" :error="field === 'password' ? failed : ''"
          ><BFormInput id="password" v-model="form.password" type="password" autocomplete="new-password" required
        /></Field>
      </div>
      <div class="d-flex gap-2">
        <BButton type="submit" variant="primary">Add</BButton><BButton variant="outline-secondary" @click="adding = false">Not now</BButton>
      </div>
    </form>
    <InviteCard v-if="inviting" @done="invited" />
    <p v-if="told" role="status" class="soft">{{ told }}</p>
    <section class="sheet">
      <table class="table cards">
        <thead>
          <tr>
            <th>Name</th>
            <th>Account</th>
            <th>Role</th>
            <th>Last</th>
            <th></th>
          </tr>
        </thead>
        <tbody>
          <template v-for="m in members" :key="m.account">
            <tr>
              <td>
                <strong>{{ m.name }}</strong> <span v-if="m.account === hub.me?.account" class="soft small-text">you</span>
              </td>
              <td class="soft">{{ m.account }}</td>
              <td>
                <BFormSelect
                  :model-value="m.role"
                  :options="roles"
                  :aria-label="`Role of ${m.name}`"
                  @update:model-value="(r) => change(m, { role: r as Member['role'] })" />
              </td>
              <td class="soft">
                {{ seen(m) }}<span v-if="m.factor" class="d-block small-text">second factor</span
                ><span v-if="m.until" class="d-block small-text">until {{ until(m).replace('T', ' ') }}</span>
              </td>
              <td class="num">
                <span v-if="m.locked" class="warn-text me-2">locked</span
                ><BButton
                  size="sm"
                  variant="outline-secondary"
                  :aria-expanded="more === m.account"
                  :aria-label="`More about ${m.name}`"
                  @click="more = more === m.account ? '' : m.account"
                  >More</BButton
                >
              </td>
            </tr>
            <tr v-if="more === m.account">
              <td colspan="5">
                <InviteCard v-if="renewing" :member="m" @done="renewing = false" />
                <div class="d-flex flex-wrap gap-2 align-items-end">
                  <label v-if="m.role === 'guest'"
                    ><span class="soft small-text d-block">Until, if there is an end</span
                    ><input
                      class="form-control form-control-sm"
                      type="datetime-local"
                      :value="until(m)"
                      :aria-label="`End of ${m.name}`"
                      @change="ends(m, ($event.target as HTMLInputElement).value)"
                  /></label>
                  <BButton v-if="!renewing" size="sm" variant="outline-secondary" @click="renewing = true">New password</BButton>
                  <BButton size="sm" variant="outline-secondary" @click="out(m)">Sign out everywhere</BButton>
                  <BButton v-if="m.factor" size="sm" variant="outline-secondary" @click="change(m, { factor: false })"
                    >Take the second factor away</BButton
                  >
                  <BButton size="sm" variant="outline-secondary" @click="change(m, { locked: !m.locked })">{{
                    m.locked ? 'Unlock' : 'Lock'
                  }}</BButton>
                  <BButton size="sm" variant="outline-secondary" @click="remove(m)">{{
                    going === m.account ? `Really take ${m.name} out` : 'Take out of the household'
                  }}</BButton>
                  <span v-if="going === m.account" class="soft small-text"
                    >Private dashboards and views, tokens and walls go as well; what is shared stays.</span
                  >
                </div>
              </td>
            </tr>
          </template>
        </tbody>
      </table>
    </section>
    <RightsCard :members="members" />
    <p class="soft small-text mt-3">
      What all guests see and may switch can also be chosen for each signal and switch on its device's page.
    </p>
  </main>
</template>

<style scoped>
.pair {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(240px, 1fr));
  gap: 14px;
}
</style>
