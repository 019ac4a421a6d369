<script setup lang="ts">
// Who is told, and how: routes, what is on its way, and by what messages leave the hub.
import { onMounted, onUnmounted, reactive, ref } from 'vue'
import { api, ask, sentence, type Delivery, type Messaging, type Route, type RouteConfig } from '../api'
import { num, useSend } from '../form'
import { dayText } from '../format'
import { onAlert, useHub } from '../hub'

const hub = useHub()
const routes = ref<Route[] | null>(null)
const posts = ref<Delivery[]>([])
const messaging = ref<Messaging | null>(null)
const form = ref<RouteConfig | null>(null)
const mail = reactive({ host: '', port: '587', security: 'starttls', account: '', from: '', password: '', address: '' })
const answers = reactive<Record<string, string>>({})
const { failed, saved, busy, send } = useSend()
const trouble = ref('')
async function load() {
  try {
    const [r, d, m] = await Promise.all([ask(api.GET('/routes')), ask(api.GET('/deliveries', { params: { query: { limit: 20 } } })), ask(api.GET('/messaging'))])
    routes.value = r
    posts.value = d
    if (!messaging.value) Object.assign(mail, { host: m.config.mail?.host ?? '', port: String(m.config.mail?.port || 587), security: m.config.mail?.security || 'starttls', account: m.config.mail?.account ?? '', from: m.config.mail?.from ?? '', address: m.config.address ?? location.origin })
    messaging.value = m
    trouble.value = ''
  } catch (e) {
    trouble.value = sentence(e)
  }
}
onMounted(load)
let timer = 0
const stop = onAlert(() => { window.clearTimeout(timer); timer = window.setTimeout(load, 1500) })
onUnmounted(() => { stop(); window.clearTimeout(timer) })
const begin = (r?: Route) => (form.value = r ? { ...r.config } : { id: '', name: '', via: 'mail', to: '', least: 'warning', ends: true, remind_ms: 0, after_ms: 0 })
const slug = (s: string) => s.toLowerCase().replace(/[^a-z0-9]+/g, '_').replace(/^[^a-z]+|_+$/g, '').slice(0, 40) || 'route'
const save = () => send(async () => {
  const f = form.value!
  await ask(api.POST('/routes', { body: { ...f, id: f.id || slug(f.name) } }))
  form.value = null
  await load()
})
const saveMail = () => send(async () => {
  messaging.value = await ask(api.PUT('/messaging', { body: { config: { ...messaging.value!.config, address: mail.address, mail: mail.host ? { host: mail.host, port: num(mail.port), security: mail.security as 'tls', account: mail.account, from: mail.from } : {} }, password: mail.password || undefined } }))
  mail.password = ''
})
async function test(id: string) {
  answers[id] = 'asking …'
  try {
    const r = await ask(api.POST('/routes/{id}/test', { params: { path: { id } } }))
    answers[id] = (r.sent ? 'taken: ' : 'not taken: ') + r.answer
  } catch (e) {
    answers[id] = sentence(e)
  }
}
async function remove(id: string) {
  try {
    await ask(api.DELETE('/routes/{id}', { params: { path: { id } } }))
    await load()
  } catch (e) {
    trouble.value = sentence(e)
  }
}
const minutes = (ms: number | undefined) => (ms ? String(ms / 60_000) : '')
const places = { mail: 'Mail address', webhook: 'Address (URL)', mqtt: 'Topic', push: '' } as const
</script>

<template>
  <section class="sheet">
    <div class="between mb-2"><h2>Who is told</h2><button v-if="!form" type="button" class="btn btn-outline-secondary btn-sm" @click="begin()">Add a route</button></div>
    <div v-if="trouble" class="note bad" role="alert">{{ trouble }}</div>
    <p v-if="routes && !routes.length && !form" class="soft">Nobody yet, but whoever looks at the console. A route says who is told from which severity on: by mail, by webhook, or over a broker elsewhere.</p>
    <div v-for="r in routes ?? []" :key="r.config.id" class="entry" :data-route="r.config.id">
      <div>
<strong>{{ r.config.name }}</strong> <span class="soft small-text">{{ r.config.via }} to {{ r.config.to }} · {{ r.config.least }} and graver{{ r.config.from ? ` · quiet from ${r.config.from} to ${r.config.until}` : '' }}{{ r.config.after_ms ? ` · after ${r.config.after_ms / 60_000} min` : '' }}{{ r.config.remind_ms ? ` · again every ${r.config.remind_ms / 60_000} min` : '' }}{{ r.config.off ? ' · off' : '' }}</span>
        <div v-if="answers[r.config.id]" class="small-text" role="status">{{ answers[r.config.id] }}</div>
</div>
      <div class="d-flex gap-2"><button type="button" class="btn btn-outline-secondary btn-sm" @click="test(r.config.id)">Test</button><button type="button" class="btn btn-outline-secondary btn-sm" @click="begin(r)">Change</button><button type="button" class="btn btn-outline-secondary btn-sm" @click="remove(r.config.id)">Take away</button></div>
    </div>
    <form v-if="form" class="fields mt-2" @submit.prevent="save">
      <label><span>Name</span><input v-model="form.name" class="form-control" required maxlength="80" placeholder="Mo’s phone" /></label>
      <label><span>By</span><select v-model="form.via" class="form-select" aria-label="By"><option value="mail">mail</option><option value="webhook">webhook</option><option value="mqtt">a broker elsewhere</option></select></label>
      <label><span>{{ places[form.via] }}</span><input v-model="form.to" class="form-control" required /></label>
      <label><span>From</span><select v-model="form.least" class="form-select" aria-label="From"><option value="info">info</option><option value="warning">warning</option><option value="critical">critical</option></select></label>
      <label><span>Quiet from</span><input v-model="form.from" class="form-control" type="time" /></label>
      <label><span>until</span><input v-model="form.until" class="form-control" type="time" /></label>
      <label><span>Only after, min</span><input class="form-control" type="number" min="0" :value="minutes(form.after_ms)" @input="form.after_ms = 60_000 * Number(($event.target as HTMLInputElement).value)" /></label>
      <label><span>Again every, min</span><input class="form-control" type="number" min="0" :value="minutes(form.remind_ms)" @input="form.remind_ms = 60_000 * Number(($event.target as HTMLInputElement).value)" /></label>
      <label v-if="form.via === 'mqtt'"><span>Broker</span><input v-model="form.broker" class="form-control" required /></label>
      <label class="check"><input v-model="form.ends" type="checkbox" class="form-check-input" /> tell also that it is over</label>
      <label v-if="form.via === 'webhook'" class="check"><input v-model="form.inside" type="checkbox" class="form-check-input" /> it may go to addresses in the house</label>
      <label v-if="form.via === 'webhook'" class="wide"><span>Body of your own, with {subject}, {text}, {link} …; empty: CloudEvents JSON</span><textarea v-model="form.body" class="form-control" rows="2"></textarea></label>
      <button class="btn btn-primary" :disabled="busy">Save</button><button type="button" class="btn btn-outline-secondary" @click="form = null">Not now</button>
      <span v-if="failed" class="warn-text small-text" role="alert">{{ failed }}</span>
    </form>

    <details class="mt-3" :open="!!routes?.some((r) => r.config.via === 'mail') && !messaging?.config.mail?.host">
<summary>The mail server, and how webhooks are signed</summary>
      <form v-if="messaging" class="fields mt-2" @submit.prevent="saveMail">
        <label><span>Mail server</span><input v-model="mail.host" class="form-control" placeholder="mail.example" /></label>
        <label class="short"><span>Port</span><input v-model="mail.port" class="form-control" type="number" /></label>
        <label><span>Security</span><select v-model="mail.security" class="form-select"><option value="starttls">STARTTLS</option><option value="tls">TLS</option><option value="none">none</option></select></label>
        <label><span>Account</span><input v-model="mail.account" class="form-control" autocomplete="off" /></label>
        <label><span>Password{{ messaging.password ? ' (one is kept)' : '' }}</span><input v-model="mail.password" class="form-control" type="password" autocomplete="new-password" /></label>
        <label><span>Sender’s address</span><input v-model="mail.from" class="form-control" type="email" /></label>
        <label><span>The console’s address, for links</span><input v-model="mail.address" class="form-control" type="url" /></label>
        <button class="btn btn-outline-secondary" :disabled="busy">Save</button><span role="status" class="small-text soft">{{ saved && !form ? 'saved' : '' }}</span>
      </form>
      <p v-if="messaging" class="soft small-text mt-2 mb-0">Webhooks are signed by HMAC-SHA256 after RFC 9421 with this key: <code>{{ messaging.signing }}</code></p>
    </details>
    <details v-if="posts.length" class="mt-3" :open="posts.some((p) => p.state !== 'sent')">
<summary>The newest messages</summary>
      <div class="scrolls" tabindex="0" role="region" aria-label="The newest messages"><table class="table table-sm"><tbody><tr v-for="p in posts" :key="p.id"><td class="text-nowrap">{{ dayText(Date.parse(p.at), hub.zone) }}</td><td>{{ p.subject }}</td><td>{{ p.route }}</td><td :class="{ 'warn-text': p.state !== 'sent' }">{{ p.state }}{{ p.tries > 1 ? `, ${p.tries} tries` : '' }}</td><td class="small-text">{{ p.answer }}</td></tr></tbody></table></div>
    </details>
  </section>
</template>

<style scoped>
.entry { display: flex; justify-content: space-between; gap: 12px; align-items: center; padding: 8px 0; border-top: 1px solid var(--line); flex-wrap: wrap; }
.check { display: flex; gap: 8px; align-items: center; }
.wide { flex: 1 1 100%; }
.scrolls { overflow-x: auto; }
</style>
