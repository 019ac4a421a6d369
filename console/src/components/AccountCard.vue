<script setup lang="ts">
// How one signs in: the password, a second factor, the browsers that are signed in, tokens for scripts.
import { onMounted, reactive, ref } from 'vue'
import { api, ask, type Scope, type Session, type Token } from '../api'
import { useSend } from '../form'
import { clockText } from '../format'
import { useHub } from '../hub'

const hub = useHub()
const part = ref<'' | 'password' | 'factor' | 'token'>('')
const { failed, busy, send } = useSend()
const told = ref('')
const sessions = ref<Session[]>([])
const tokens = ref<Token[]>([])
const factor = ref({ on: false, recovery: 0 })
const load = () =>
  send(async () => {
    ;[sessions.value, tokens.value, factor.value] = await Promise.all([
      ask(api.GET('/sessions')),
      ask(api.GET('/tokens')),
      ask(api.GET('/factor')),
    ])
  })
onMounted(load)
function begin(p: typeof part.value) {
  part.value = p
  failed.value = told.value = ''
  Object.assign(form, { old: '', fresh: '', code: '', stay: false })
  offer.value = null
  codes.value = []
  token.value = ''
}
const form = reactive({ old: '', fresh: '', code: '', stay: false, name: '', days: 0, scopes: ['read'] as Scope[] })
const change = () =>
  send(async () => {
    await ask(api.PUT('/password', { body: { old: form.old, new: form.fresh, stay: form.stay } }))
    told.value = form.stay
      ? 'The password is changed; other browsers are signed out.'
      : 'The password is changed; other browsers, tokens and walls are signed out.'
    part.value = ''
    ;[sessions.value, tokens.value] = await Promise.all([ask(api.GET('/sessions')), ask(api.GET('/tokens'))])
  })
const offer = ref<{ secret: string; qr: string } | null>(null)
const codes = ref<string[]>([])
const make = () =>
  send(async () => {
    offer.value = await ask(api.POST('/factor', { body: { password: form.old } }))
  })
const confirm = () =>
  send(async () => {
    codes.value = (await ask(api.PUT('/factor', { body: { code: form.code.replaceAll(' ', '') } }))).recovery
    factor.value = await ask(api.GET('/factor'))
  })
const remove = () =>
  send(async () => {
    await ask(api.DELETE('/factor', { body: { password: form.old } }))
    begin('')
    factor.value = await ask(api.GET('/factor'))
  })
const token = ref('')
const addToken = () =>
  send(async () => {
    token.value = (
      await ask(api.POST('/tokens', { body: { name: form.name, scopes: form.scopes, days: Number(form.days) || undefined } }))
    ).token
    tokens.value = await ask(api.GET('/tokens'))
  })
const end = (id: string) =>
  send(async () => {
    await ask(api.DELETE('/tokens/{id}', { params: { path: { id } } }))
    tokens.value = await ask(api.GET('/tokens'))
  })
const everywhere = () =>
  send(async () => {
    await ask(api.DELETE('/sessions'))
    await hub.leave()
  })
const when = (t: string | undefined) =>
  t ? clockText(Date.parse(t), hub.zone, { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' }) : 'never'
const scopes: { value: Scope; text: string }[] = [
  { value: 'read', text: 'read: look, history, journal' },
  { value: 'switch', text: 'switch: and set, answer alerts' },
  { value: 'configure', text: 'configure the hub' },
  { value: 'push', text: 'push readings of the past' },
]
</script>

<template>
  <section class="sheet stack" aria-label="Signing in">
    <h2>Signing in</h2>
    <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
    <p v-if="told" class="soft mb-0" role="status">{{ told }}</p>
    <div v-if="!part" class="d-flex flex-wrap gap-2">
      <button type="button" class="btn btn-outline-secondary" @click="begin('password')">Change the password</button>
      <button type="button" class="btn btn-outline-secondary" @click="begin('factor')">
        {{ factor.on ? 'Second factor: on' : 'Add a second factor' }}
      </button>
      <button type="button" class="btn btn-outline-secondary" @click="begin('token')">Make a token for a script</button>
    </div>
    <form v-if="part === 'password'" class="fields" @submit.prevent="change">
      <label
        ><span>Password until now</span
        ><input v-model="form.old" class="form-control" type="password" autocomplete="current-password" required
      /></label>
      <label
        ><span>New one, at least 12 characters</span
        ><input v-model="form.fresh" class="form-control" type="password" autocomplete="new-password" required
      /></label>
      <label class="check"><input v-model="form.stay" type="checkbox" class="form-check-input" /> My tokens and walls go on</label>
      <div class="d-flex gap-2">
        <button class="btn btn-primary" :disabled="busy">Change it</button
        ><button type="button" class="btn btn-outline-secondary" @click="begin('')">Not now</button>
      </div>
    </form>
    <form v-if="part === 'factor'" class="stack" @submit.prevent="factor.on ? remove() : offer ? confirm() : make()">
      <template v-if="codes.length">
        <p class="mb-0" role="status">
          From now on signing in asks for a code of the app. Should the phone be lost, each of these stands for one code. They are shown
          only now; write them down.
        </p>
        <pre class="codes">{{ codes.join('\n') }}</pre>
        <div><button type="button" class="btn btn-primary" @click="begin('')">I have them</button></div>
      </template>
      <template v-else>
        <p v-if="factor.on" class="mb-0">Signing in asks for a code. {{ factor.recovery }} recovery codes are left.</p>
        <p v-else-if="!offer" class="mb-0">A code from an app on your phone, besides the password (time-based, RFC 6238).</p>
        <div v-if="offer" class="offer">
          <img :src="'data:image/png;base64,' + offer.qr" alt="The secret as a picture for the app" width="200" height="200" />
          <div>
            <p class="mb-1">Show this to the app, or type the secret:</p>
            <code>{{ offer.secret }}</code>
          </div>
        </div>
        <div class="fields">
          <label v-if="!offer"
            ><span>Your password</span
            ><input v-model="form.old" class="form-control" type="password" autocomplete="current-password" required
          /></label>
          <label v-else
            ><span>Code that the app shows now</span
            ><input v-model="form.code" class="form-control" inputmode="numeric" autocomplete="one-time-code" required
          /></label>
          <div class="d-flex gap-2">
            <button class="btn btn-primary" :disabled="busy">
              {{ factor.on ? 'Take it away' : offer ? 'Put it in force' : 'Go on' }}</button><button
              type="button"
              class="btn btn-outline-secondary"
              @click="begin('')">
              Not now
            </button>
          </div>
        </div>
      </template>
    </form>
    <form v-if="part === 'token'" class="stack" @submit.prevent="addToken">
      <template v-if="token">
        <p class="mb-0" role="status">This is the token. It is shown only now:</p>
        <code>{{ token }}</code>
        <div><button type="button" class="btn btn-primary" @click="begin('')">I have it</button></div>
      </template>
      <template v-else>
        <div class="fields">
          <label
            ><span>Name</span><input v-model="form.name" class="form-control" maxlength="80" required placeholder="the display in the hall"
          /></label>
          <label class="short"
            ><span>Ends after, days (0: never)</span><input v-model="form.days" class="form-control" type="number" min="0" max="3650"
          /></label>
        </div>
        <fieldset>
          <legend class="soft small-text">It may</legend>
          <label v-for="s in scopes" :key="s.value" class="check"
            ><input v-model="form.scopes" type="checkbox" class="form-check-input" :value="s.value" /> {{ s.text }}</label
          >
        </fieldset>
        <div class="d-flex gap-2">
          <button class="btn btn-primary" :disabled="busy || !form.scopes.length">Make it</button
          ><button type="button" class="btn btn-outline-secondary" @click="begin('')">Not now</button>
        </div>
      </template>
    </form>
    <div v-if="tokens.length">
      <h3>Tokens</h3>
      <ul class="plain">
        <li v-for="t in tokens" :key="t.id" class="between">
          <span
            >{{ t.name }}
            <span class="soft small-text"
              >{{ t.scopes?.join(', ') ?? 'all that you may' }} · used {{ when(t.used)
              }}{{ t.expires ? ` · ends ${when(t.expires)}` : '' }}</span
            ></span
          ><button type="button" class="btn btn-outline-secondary btn-sm" :aria-label="`End the token ${t.name}`" @click="end(t.id)">
            End
          </button>
        </li>
      </ul>
    </div>
    <div>
      <div class="between">
        <h3>Signed in</h3>
        <button type="button" class="btn btn-outline-secondary btn-sm" @click="everywhere">Sign out everywhere</button>
      </div>
      <ul class="plain">
        <li v-for="s in sessions" :key="s.id">
          {{ s.from }}
          <span class="soft small-text">{{ s.current ? 'this browser' : `since ${when(s.created)}, last ${when(s.used)}` }}</span>
        </li>
      </ul>
    </div>
  </section>
</template>

<style scoped>
h3 {
  font-size: 0.9375rem;
  font-weight: 650;
  margin: 0 0 4px;
}
.plain {
  list-style: none;
  margin: 0;
  padding: 0;
}
.plain li + li {
  border-top: 1px solid var(--line);
}
.plain li {
  padding: 8px 0;
  gap: 10px;
}
.offer {
  display: flex;
  flex-wrap: wrap;
  gap: 18px;
}
.offer img {
  background: #fff;
  border-radius: 8px;
  image-rendering: pixelated;
}
.check {
  display: flex;
  gap: 8px;
  align-items: center;
  min-height: 32px;
}
code {
  overflow-wrap: anywhere;
  user-select: all;
}
.codes {
  margin: 0;
  user-select: all;
  columns: 2;
  max-width: 340px;
}
</style>
