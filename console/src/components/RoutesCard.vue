<script setup lang="ts">
// Who is told, and how: routes, what is on its way, and by what messages leave the hub.
import { onMounted, onUnmounted, reactive, ref } from 'vue'
import { api, ask, keepPart, removePart, sentence, type Delivery, type Member, type Messaging, type Route, type RouteConfig } from '../api'
import { useSend } from '../form'
import { dayText } from '../format'
import { onAlert, useHub } from '../hub'
import MessagingForm from './MessagingForm.vue'

const hub = useHub()
const routes = ref<Route[] | null>(null)
const posts = ref<Delivery[]>([])
const messaging = ref<Messaging | null>(null)
const form = ref<RouteConfig | null>(null)
const people = ref<Member[]>([])
const answers = reactive<Record<string, string>>({})
const { failed, busy, send } = useSend()
const trouble = ref('')
async function load() {
  try {
    const [r, d] = await Promise.all([ask(api.GET('/routes')), ask(api.GET('/deliveries', { params: { query: { limit: 20 } } }))])
    routes.value = r.items
    posts.value = d
    trouble.value = ''
  } catch (e) {
    trouble.value = sentence(e)
  }
}
onMounted(load)
onMounted(async () => {
  if (hub.owner) people.value = await ask(api.GET('/members')).catch(() => [])
})
let timer = 0
const stop = onAlert(() => {
  window.clearTimeout(timer)
  timer = window.setTimeout(load, 1500)
})
onUnmounted(() => {
  stop()
  window.clearTimeout(timer)
})
let version: string | undefined
const begin = (r?: Route) => {
  version = r?.version
  form.value = r ? { ...r.config } : { id: '', name: '', via: 'mail', to: '', least: 'warning', ends: true, remind_ms: 0, after_ms: 0 }
}
const save = () =>
  send(async () => {
    const f = form.value!
    await keepPart('routes', f, version)
    form.value = null
    await load()
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
    await removePart('routes', id)
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
    <div class="between mb-2">
      <h2>Who is told</h2>
      <button v-if="!form" type="button" class="btn btn-outline-secondary btn-sm" @click="begin()">Add a route</button>
    </div>
    <div v-if="trouble" class="note bad" role="alert">{{ trouble }}</div>
    <p v-if="routes && !routes.length && !form" class="soft">
      Nobody yet, but whoever looks at the console. A route says who is told from which severity on: by mail, by webhook, or over a broker
      elsewhere.
    </p>
    <div v-for="r in routes ?? []" :key="r.config.id" class="entry" :data-route="r.config.id">
      <div>
        <strong>{{ r.config.name }}</strong>
        {{ ' '
        }}<span class="soft small-text"
          >{{ r.config.via }} to {{ r.config.to || people.find((m) => m.account === r.config.person)?.name || r.config.person }} ·
          {{ r.config.least }} and graver{{ r.config.from ? ` · quiet from ${r.config.from} to ${r.config.until}` : ''
          }}{{ r.config.after_ms ? ` · after ${r.config.after_ms / 60_000} min` : ''
          }}{{ r.config.remind_ms ? ` · again every ${r.config.remind_ms / 60_000} min` : '' }}{{ r.config.off ? ' · off' : '' }}</span
        >
        <div v-if="answers[r.config.id]" class="small-text" role="status">{{ answers[r.config.id] }}</div>
      </div>
      <div class="d-flex gap-2">
        <button type="button" class="btn btn-outline-secondary btn-sm" @click="test(r.config.id)">Test</button
        ><button type="button" class="btn btn-outline-secondary btn-sm" @click="begin(r)">Change</button
        ><button type="button" class="btn btn-outline-secondary btn-sm" @click="remove(r.config.id)">Take away</button>
      </div>
    </div>
    <form v-if="form" class="fields mt-2" @submit.prevent="save">
      <label><span>Name</span><input v-model="form.name" class="form-control" required maxlength="80" placeholder="Mo’s phone" /></label>
      <label
        ><span>By</span
        ><select v-model="form.via" class="form-select" aria-label="By">
          <option value="mail">mail</option>
          <option value="webhook">webhook</option>
          <option value="mqtt">a broker elsewhere</option>
          <option value="push">a push to installed consoles</option>
        </select></label
      >
      <label v-if="form.via !== 'push'"
        ><span>{{ places[form.via] }}</span
        ><input v-model="form.to" class="form-control" required
      /></label>
      <label
        ><span>For</span
        ><select v-model="form.person" class="form-select" :required="form.via === 'push'">
          <option :value="undefined">nobody in particular</option>
          <option v-for="m in people" :key="m.account" :value="m.account">{{ m.name }}</option>
        </select></label
      >
      <label
        ><span>From</span
        ><select v-model="form.least" class="form-select" aria-label="From">
          <option value="info">info</option>
          <option value="warning">warning</option>
          <option value="critical">critical</option>
        </select></label
      >
      <label><span>Quiet from</span><input v-model="form.from" class="form-control" type="time" /></label>
      <label><span>until</span><input v-model="form.until" class="form-control" type="time" /></label>
      <label
        ><span>Only after, min</span
        ><input
          class="form-control"
          type="number"
          min="0"
          :value="minutes(form.after_ms)"
          @input="form.after_ms = 60_000 * Number(($event.target as HTMLInputElement).value)"
      /></label>
      <label
        ><span>Again every, min</span
        ><input
          class="form-control"
          type="number"
          min="0"
          :value="minutes(form.remind_ms)"
          @input="form.remind_ms = 60_000 * Number(($event.target as HTMLInputElement).value)"
      /></label>
      <label v-if="form.via === 'mqtt'"><span>Broker</span><input v-model="form.broker" class="form-control" required /></label>
      <label class="check"><input v-model="form.ends" type="checkbox" class="form-check-input" /> tell also that it is over</label>
      <label v-if="form.via === 'webhook'" class="check"
        ><input v-model="form.inside" type="checkbox" class="form-check-input" /> it may go to addresses in the house</label
      >
      <label v-if="form.via === 'webhook'" class="wide"
        ><span>Body of your own, with {subject}, {text}, {link} …; empty: CloudEvents JSON</span
        ><textarea v-model="form.body" class="form-control" rows="2"></textarea>
      </label>
      <button class="btn btn-primary" :disabled="busy">Save</button
      ><button type="button" class="btn btn-outline-secondary" @click="form = null">Not now</button>
      <span v-if="failed" class="warn-text small-text" role="alert">{{ failed }}</span>
    </form>

    <MessagingForm
      :open="
        (!!routes?.some((r) => r.config.via === 'mail') && !!messaging && !messaging.config.mail?.host) || $route.hash === '#messaging'
      "
      @loaded="messaging = $event" />
    <details v-if="posts.length" class="mt-3" :open="posts.some((p) => p.state !== 'sent')">
      <summary>The newest messages</summary>
      <div class="scrolls" tabindex="0" role="region" aria-label="The newest messages">
        <table class="table table-sm">
          <tbody>
            <tr v-for="p in posts" :key="p.id">
              <td class="text-nowrap">{{ dayText(Date.parse(p.at), hub.zone) }}</td>
              <td>{{ p.subject }}</td>
              <td>{{ p.route }}</td>
              <td :class="{ 'warn-text': p.state !== 'sent' }">{{ p.state }}{{ p.tries > 1 ? `, ${p.tries} tries` : '' }}</td>
              <td class="small-text">{{ p.answer }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </details>
  </section>
</template>

<style scoped>
.entry {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  align-items: center;
  padding: 8px 0;
  border-top: 1px solid var(--line);
  flex-wrap: wrap;
}
.check {
  display: flex;
  gap: 8px;
  align-items: center;
}
.wide {
  flex: 1 1 100%;
}
.scrolls {
  overflow-x: auto;
}
</style>
