<script setup lang="ts">
// By what messages leave the hub: the mail server, pushes, the digest, the sign of life outward, and how webhooks are signed.
import { onMounted, reactive, ref } from 'vue'
import { api, ask, keepSole, type Messaging } from '../api'
import { num, useSend } from '../form'

defineProps<{ open?: boolean }>()
const emit = defineEmits<{ loaded: [m: Messaging] }>()
const messaging = ref<Messaging | null>(null)
const f = reactive({
  address: '',
  host: '',
  port: '587',
  security: 'starttls',
  account: '',
  from: '',
  ca: '',
  password: '',
  push: false,
  every: '',
  at: '07:00',
  digestTo: '',
  via: '',
  aliveTo: '',
  minutes: '60',
  say: '',
})
const { failed, saved, busy, send } = useSend()
function take(m: Messaging) {
  const c = m.config
  Object.assign(f, {
    address: c.address ?? location.origin,
    host: c.mail?.host ?? '',
    port: String(c.mail?.port || 587),
    security: c.mail?.security || 'starttls',
    account: c.mail?.account ?? '',
    from: c.mail?.from ?? '',
    ca: c.mail?.ca ?? '',
    password: '',
    say: Object.entries(c.say ?? {})
      .map(([id, words]) => `${id}: ${words}`)
      .join('\n'),
    push: !!c.push,
    every: c.digest?.every ?? '',
    at: c.digest?.at || '07:00',
    digestTo: c.digest?.to ?? '',
    via: c.alive?.via ?? '',
    aliveTo: c.alive?.to ?? '',
    minutes: String((c.alive?.every_ms ?? 3600_000) / 60_000),
  })
  messaging.value = m
  emit('loaded', m)
}
onMounted(async () => {
  await send(async () => take(await ask(api.GET('/messaging'))))
  saved.value = false // it was only asked for
})
const save = () =>
  send(async () => {
    take(
      await keepSole(
        '/messaging',
        {
          password: f.password || undefined,
          address: f.address,
          push: f.push,
          say: Object.fromEntries(
            f.say
              .split('\n')
              .filter((l) => l.includes(':'))
              .map((l) => [l.slice(0, l.indexOf(':')).trim(), l.slice(l.indexOf(':') + 1).trim()]),
          ),
          mail: f.host
            ? { host: f.host, port: num(f.port), security: f.security as 'tls', account: f.account, from: f.from, ca: f.ca || undefined }
            : {},
          digest: f.every ? { every: f.every as 'day', at: f.at, to: f.digestTo } : {},
          alive: f.via ? { via: f.via as 'mail', to: f.aliveTo, every_ms: 60_000 * Number(f.minutes) } : {},
        },
        messaging.value!.version,
      ),
    )
  })
</script>

<template>
  <details id="messaging" class="mt-3" :open="open">
    <summary>The mail server, pushes, the digest, the sign of life, wordings</summary>
    <form v-if="messaging" class="mt-2 stack tight" @submit.prevent="save">
      <div class="fields">
        <label><span>The console’s address, for links</span><input v-model="f.address" class="form-control" type="url" /></label>
        <label class="check"
          ><input v-model="f.push" type="checkbox" class="form-check-input" /> push to installed consoles (needs the internet)</label
        >
      </div>
      <div class="fields">
        <label><span>Mail server</span><input v-model="f.host" class="form-control" placeholder="mail.example" /></label>
        <label class="short"><span>Port</span><input v-model="f.port" class="form-control" type="number" /></label>
        <label class="short"
          ><span>Security</span
          ><select v-model="f.security" class="form-select">
            <option value="starttls">STARTTLS</option>
            <option value="tls">TLS</option>
            <option value="none">none</option>
          </select></label
        >
        <label><span>Account</span><input v-model="f.account" class="form-control" autocomplete="off" /></label>
        <label
          ><span>Password{{ messaging.state.password ? ' (one is kept)' : '' }}</span
          ><input v-model="f.password" class="form-control" type="password" autocomplete="new-password"
        /></label>
        <label><span>Sender’s address</span><input v-model="f.from" class="form-control" type="email" /></label>
        <label v-if="f.host && f.security !== 'none'" class="wide"
          ><span>Certificate of its authority, PEM; empty: a public one</span
          ><textarea v-model="f.ca" class="form-control mono" rows="1"></textarea>
        </label>
      </div>
      <div class="fields">
        <label class="short"
          ><span>Digest</span
          ><select v-model="f.every" class="form-select">
            <option value="">none</option>
            <option value="day">each day</option>
            <option value="week">each Monday</option>
          </select></label
        >
        <template v-if="f.every">
          <label class="short"><span>at</span><input v-model="f.at" class="form-control" type="time" required /></label>
          <label><span>by mail to</span><input v-model="f.digestTo" class="form-control" type="email" required /></label>
        </template>
      </div>
      <div class="fields">
        <label class="short"
          ><span>Sign of life</span
          ><select v-model="f.via" class="form-select">
            <option value="">none</option>
            <option value="webhook">by webhook</option>
            <option value="mail">by mail</option>
          </select></label
        >
        <template v-if="f.via">
          <label
            ><span>to</span
            ><input
              v-model="f.aliveTo"
              class="form-control"
              required
              :placeholder="f.via === 'mail' ? 'watch@example.org' : 'https://watch.example/beat'"
          /></label>
          <label class="short"
            ><span>every, min</span><input v-model="f.minutes" class="form-control" type="number" min="1" max="10080" required
          /></label>
        </template>
      </div>
      <p v-if="f.via" class="soft small-text mb-0">
        It says that the hub is alive. Whoever takes it can tell when it stops; over a broker elsewhere the last will does the same
        (Settings).
      </p>
      <label class="d-block"
        ><span class="soft small-text"
          >Wordings of your own for what <code>say</code> answers, one a line:
          <code>kiln: The kiln is at {kiln.chamber}; {alerts}.</code></span
        ><textarea v-model="f.say" class="form-control mono" rows="2"></textarea>
      </label>
      <div class="d-flex gap-2 align-items-center">
        <button class="btn btn-outline-secondary" :disabled="busy">Save</button
        ><span role="status" class="small-text" :class="failed ? 'warn-text' : 'soft'">{{ failed || (saved ? 'saved' : '') }}</span>
      </div>
    </form>
    <p v-else class="soft small-text">{{ failed || 'Asking the hub …' }}</p>
    <p v-if="messaging" class="soft small-text mt-2 mb-0">
      Webhooks are signed by HMAC-SHA256 after RFC 9421 with this key: <code>{{ messaging.state.signing }}</code>
    </p>
  </details>
</template>

<style scoped>
.check {
  display: flex;
  gap: 8px;
  align-items: center;
}
.wide {
  flex: 1 1 100% !important;
}
</style>
