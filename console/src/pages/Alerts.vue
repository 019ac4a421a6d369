<script setup lang="ts">
// What people must know of: what is active, the gravest first; what became of it; what is looked at; who is told.
import { useEventListener } from '@vueuse/core'
import { computed, onUnmounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, ask, keepPart, listParts, removePart, sentence, type Alert, type AlertEvent } from '../api'
import { alertWords } from '../attention'
import Icon from '../components/Icon.vue'
import RoutesCard from '../components/RoutesCard.vue'
import Sparkline from '../components/Sparkline.vue'
import { reach, useDay } from '../day'
import { dayText, since } from '../format'
import { onAlert, useHub } from '../hub'

const hub = useHub()
const route = useRoute()
const failed = ref('')
const picked = ref<string[]>(typeof route.query.id === 'string' && hub.alerts[route.query.id] ? [route.query.id] : [])
const word = ref('')
const rank = { critical: 0, warning: 1, info: 2 } as const
const phases = { active: 0, returned: 1, acknowledged: 2, shelved: 3, out_of_service: 4, normal: 5 } as const
const list = computed(() =>
  Object.values(hub.alerts).sort(
    (a, b) =>
      phases[a.state.phase] - phases[b.state.phase] ||
      rank[a.config.severity] - rank[b.config.severity] ||
      (a.state.since ?? '').localeCompare(b.state.since ?? ''),
  ),
)

// Many of one kind that came together have one cause: they are one line.
type Line = { key: string; alerts: Alert[] }
const flood = 5
const open = ref<string[]>([])
const lines = computed<Line[]>(() => {
  const groups = new Map<string, Alert[]>()
  for (const a of list.value) {
    const key = `${a.state.phase} ${a.config.kind} ${a.state.since ? Math.round(Date.parse(a.state.since) / 120_000) : ''}`
    groups.set(key, [...(groups.get(key) ?? []), a])
  }
  return [...groups].flatMap(([key, g]) =>
    g.length < flood || open.value.includes(key) ? g.map((a) => ({ key: a.config.id, alerts: [a] })) : [{ key, alerts: g }],
  )
})
const place = (a: Alert) => hub.places.find((p) => p.id === a.state.place)?.name ?? ''
const numbers = computed(() => list.value.flatMap((a) => (hub.signals[a.config.of ?? '']?.config.kind === 'number' ? [a.config.of!] : [])))
// The line begins well before the alert did.
const spanOf = (id: string) =>
  reach(Math.max(0, ...list.value.filter((a) => a.config.of === id && a.state.since).map((a) => hub.minute - Date.parse(a.state.since!))))
const { traces, to } = useDay(() => numbers.value, spanOf)
const phaseNames = {
  normal: 'quiet',
  active: 'active',
  acknowledged: 'acknowledged',
  returned: 'over, not cleared',
  shelved: 'shelved',
  out_of_service: 'out of service',
} as const

const ways: Record<string, string> = { mail: 'mail', webhook: 'webhook', mqtt: 'MQTT', push: 'push' }
const toldWords = (t: NonNullable<Alert['state']['told']>[number]) =>
  `${t.who || t.name || t.route}${t.via ? ` by ${ways[t.via]}` : ''} ${since(t.at, hub.minute)} ago${t.count > 1 ? ` (${t.count} times)` : ''}${t.state ? (t.state === 'failed' ? ', which did not arrive' : ', which has not arrived yet') : ''}`

async function act(action: 'acknowledge' | 'shelve' | 'unshelve' | 'retire' | 'restore', ids: string[], for_ms?: number) {
  failed.value = ''
  try {
    for (const a of await ask(api.POST('/alerts/act', { body: { ids, action, for_ms, word: word.value || undefined } }))) hub.hearAlert(a)
    word.value = ''
    picked.value = picked.value.filter((id) => !ids.includes(id))
  } catch (e) {
    failed.value = sentence(e)
  }
}
const fits = (phases: Alert['state']['phase'][]) =>
  picked.value.filter((id) => hub.alerts[id] && phases.includes(hub.alerts[id].state.phase))
const shelf = ref(4 * 3600_000)
function keys(e: KeyboardEvent) {
  if (
    e.key === 'a' &&
    !(e.target as HTMLElement).closest?.('input:not([type=checkbox]), select, textarea') &&
    fits(['active', 'returned']).length
  )
    void act('acknowledge', fits(['active', 'returned']))
}
useEventListener(document, 'keydown', keys)

const events = ref<AlertEvent[] | null>(null)
const filter = ref({ severity: '' as '' | 'info' | 'warning' | 'critical', place: '', what: '' })
const more = ref(false)
async function history(before?: number) {
  if (!hub.member) return
  try {
    const got = await ask(
      api.GET('/alert-events', {
        params: {
          query: {
            severity: filter.value.severity || undefined,
            place: filter.value.place || undefined,
            what: filter.value.what || undefined,
            before,
            limit: 50,
          },
        },
      }),
    )
    events.value = before ? [...(events.value ?? []), ...got] : got
    more.value = got.length === 50
  } catch (e) {
    failed.value = sentence(e)
  }
}
watch(filter, () => void history(), { deep: true, immediate: true })

const all = ref<Alert[] | null>(null)
async function load() {
  try {
    all.value = await listParts<Alert>('alerts')
  } catch (e) {
    failed.value = sentence(e)
  }
}
void load()
let soon = 0
const stop = onAlert(() => {
  window.clearTimeout(soon)
  soon = window.setTimeout(() => {
    void history()
    void load()
  }, 400)
})
onUnmounted(() => {
  stop()
  window.clearTimeout(soon)
})
const made = computed(() => (all.value ?? []).filter((a) => !a.state.built_in))
const builtIn = computed(() => (all.value ?? []).filter((a) => a.state.built_in))
const gone = ref<Alert | null>(null)
async function remove(a: Alert) {
  try {
    await removePart('alerts', a.config.id)
    gone.value = a
    await load()
  } catch (e) {
    failed.value = sentence(e)
  }
}
async function bringBack() {
  const { config } = gone.value!
  try {
    await keepPart('alerts', config, all.value?.find((x) => x.config.id === config.id)?.version) // a built-in one is there as it was
    gone.value = null
    await load()
  } catch (e) {
    failed.value = sentence(e)
  }
}
async function toggle(a: Alert) {
  try {
    await keepPart('alerts', { ...a.config, off: !a.config.off }, a.version)
    await load()
  } catch (e) {
    failed.value = sentence(e)
  }
}
</script>

<template>
  <main class="page stack">
    <div class="between">
      <h1>Alerts</h1>
      <span class="d-flex gap-2"
        ><RouterLink v-if="hub.member" class="btn btn-outline-secondary" :to="{ name: 'digest' }">What happened</RouterLink
        ><RouterLink v-if="hub.owner" class="btn btn-primary" :to="{ name: 'new-alert' }">Tell me when …</RouterLink></span
      >
    </div>
    <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
    <section class="sheet" aria-label="Active alerts">
      <p v-if="!list.length" class="soft mb-0" role="status">All is well. What needs somebody stands here, with what to do about it.</p>
      <template v-else>
        <ul class="alerts" aria-live="polite">
          <li
            v-for="l in lines"
            :key="l.key"
            :class="[l.alerts[0]!.state.phase, l.alerts[0]!.config.severity]"
            :data-alert="l.alerts.length === 1 ? l.alerts[0]!.config.id : l.key">
            <template v-if="l.alerts.length > 1">
              <input
                class="form-check-input"
                type="checkbox"
                :aria-label="`All ${l.alerts.length}`"
                :checked="l.alerts.every((a) => picked.includes(a.config.id))"
                @change="
                  (e) =>
                    (picked = (e.target as HTMLInputElement).checked
                      ? [...new Set([...picked, ...l.alerts.map((a) => a.config.id)])]
                      : picked.filter((id) => !l.alerts.some((a) => a.config.id === id)))
                " />
              <Icon name="bell" :size="18" class="sign" />
              <div class="words">
                <strong>{{ l.alerts.length }} alerts that came together</strong>
                {{ ' ' }}<span class="soft small-text">{{ phaseNames[l.alerts[0]!.state.phase] }}</span>
                <div class="small-text">
                  {{
                    l.alerts
                      .slice(0, 4)
                      .map((a) => a.config.name)
                      .join(', ')
                  }}
                  and others, for {{ since(l.alerts[0]!.state.since, hub.minute) }}
                </div>
                <button type="button" class="plain small-text" @click="open = [...open, l.key]">Each of them</button>
              </div>
            </template>
            <template v-for="a in l.alerts.length === 1 ? l.alerts : []" :key="a.config.id">
              <input v-model="picked" class="form-check-input" type="checkbox" :value="a.config.id" :aria-label="a.config.name" />
              <Icon name="bell" :size="18" class="sign" />
              <div class="words">
                <div>
                  <strong>{{ a.config.name }}</strong> <span class="kind">{{ a.config.severity }}</span> {{ ' '
                  }}<span class="soft small-text">{{ place(a) }}{{ place(a) ? ' · ' : '' }}{{ phaseNames[a.state.phase] }}</span>
                </div>
                <div class="small-text">{{ alertWords(a, hub.minute) }}</div>
                <div v-if="a.config.text && ['active', 'returned'].includes(a.state.phase)" class="small-text do">{{ a.config.text }}</div>
                <div v-if="a.state.told?.length" class="soft small-text">told {{ a.state.told.map(toldWords).join(', ') }}</div>
              </div>
              <RouterLink
                v-if="a.config.of && traces[a.config.of]"
                class="spark"
                :to="{ name: 'charts', query: { s: a.config.of } }"
                :aria-label="`Chart of ${a.config.name}`"
                ><Sparkline :trace="traces[a.config.of]" :from="to - spanOf(a.config.of)" :to="to"
              /></RouterLink>
            </template>
          </li>
        </ul>
        <div v-if="hub.member" class="d-flex flex-wrap gap-2 mt-3 no-print" role="toolbar" aria-label="What is ticked">
          <input v-model="word" class="form-control word" maxlength="200" placeholder="A word with it" aria-label="A word with it" />
          <button
            type="button"
            class="btn btn-primary"
            :disabled="!fits(['active', 'returned']).length"
            @click="act('acknowledge', fits(['active', 'returned']))">
            Acknowledge{{ picked.length > 1 ? ` ${fits(['active', 'returned']).length}` : '' }}
          </button>
          <div class="d-flex gap-1">
            <button
              type="button"
              class="btn btn-outline-secondary"
              :disabled="!fits(['active', 'returned', 'acknowledged']).length"
              @click="act('shelve', fits(['active', 'returned', 'acknowledged']), shelf)">
              Shelve for
            </button>
            <select v-model.number="shelf" class="form-select" aria-label="For how long">
              <option :value="3600_000">1 h</option>
              <option :value="4 * 3600_000">4 h</option>
              <option :value="24 * 3600_000">a day</option>
              <option :value="7 * 24 * 3600_000">a week</option>
            </select>
          </div>
          <button
            v-if="fits(['shelved']).length"
            type="button"
            class="btn btn-outline-secondary"
            @click="act('unshelve', fits(['shelved']))">
            Off the shelf
          </button>
          <button
            v-if="hub.owner && fits(['active', 'returned', 'acknowledged', 'shelved']).length"
            type="button"
            class="btn btn-outline-secondary"
            @click="act('retire', fits(['active', 'returned', 'acknowledged', 'shelved']))">
            Out of service
          </button>
          <button
            v-if="hub.owner && fits(['out_of_service']).length"
            type="button"
            class="btn btn-outline-secondary"
            @click="act('restore', fits(['out_of_service']))">
            Back in service
          </button>
        </div>
      </template>
    </section>

    <section v-if="hub.member" class="sheet">
      <div class="between mb-2">
        <h2>What became of them</h2>
        <div class="d-flex flex-wrap gap-2 no-print">
          <select v-model="filter.severity" class="form-select form-select-sm" aria-label="Severity">
            <option value="">any severity</option>
            <option>critical</option>
            <option>warning</option>
            <option>info</option>
          </select>
          <select v-model="filter.place" class="form-select form-select-sm" aria-label="Place">
            <option value="">any place</option>
            <option v-for="p in hub.places" :key="p.id" :value="p.id">{{ p.name }}</option>
          </select>
          <select v-model="filter.what" class="form-select form-select-sm" aria-label="What">
            <option value="">all</option>
            <option>raised</option>
            <option>over</option>
            <option>acknowledged</option>
            <option>learnt late</option>
            <option>shelved</option>
          </select>
        </div>
      </div>
      <p v-if="events && !events.length" class="soft mb-0">
        Nothing yet. Each time an alert comes, is acknowledged or is over, it will be here.
      </p>
      <div v-else-if="events" class="scrolls" tabindex="0" role="region" aria-label="What became of alerts">
        <table class="table table-sm">
          <thead>
            <tr>
              <th scope="col">When</th>
              <th scope="col">What</th>
              <th scope="col">Alert</th>
              <th scope="col">Value</th>
              <th scope="col">By</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="e in events" :key="e.id">
              <td class="text-nowrap">{{ dayText(Date.parse(e.at), hub.zone) }}</td>
              <td>{{ e.what }}</td>
              <td>{{ e.name }}</td>
              <td>{{ e.value }}</td>
              <td>{{ e.by === 'the hub' ? '' : e.by }}{{ e.word && e.what === 'acknowledged' ? `: ${e.word}` : '' }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <button v-if="more" type="button" class="btn btn-outline-secondary btn-sm" @click="history(events!.at(-1)!.id)">Earlier ones</button>
    </section>

    <section v-if="hub.owner && all" class="sheet">
      <h2 class="mb-2">What is looked at</h2>
      <p v-if="gone" class="note small-text" role="status">
        <span>{{ gone.config.name }} was taken away.</span>
        {{ ' ' }}<button type="button" class="btn btn-outline-secondary btn-sm" @click="bringBack">Bring it back</button>
      </p>
      <p v-if="!made.length" class="soft">
        You made none yet. <RouterLink :to="{ name: 'new-alert' }">Tell me when …</RouterLink> a value is above a limit, a reading is
        missing, something opens.
      </p>
      <div v-for="a in made" :key="a.config.id" class="entry" :data-made="a.config.id">
        <div>
          <strong>{{ a.config.name }}</strong>
          {{ ' '
          }}<span class="soft small-text"
            >{{ a.config.severity }}{{ a.config.off ? ', off' : '' }} · {{ a.config.of || a.config.when
            }}{{ a.state.limit ? ` ${a.state.limit}` : '' }}</span
          >
        </div>
        <div class="d-flex gap-2">
          <RouterLink class="btn btn-outline-secondary btn-sm" :to="{ name: 'new-alert', query: { id: a.config.id } }">Change</RouterLink
          ><button type="button" class="btn btn-outline-secondary btn-sm" @click="remove(a)">Take away</button>
        </div>
      </div>
      <details class="mt-2">
        <summary>{{ builtIn.length }} that are there without making</summary>
        <div v-for="a in builtIn" :key="a.config.id" class="entry">
          <div>
            {{ a.config.name }} <span class="soft small-text">{{ a.config.severity }} · {{ a.state.value }}</span>
          </div>
          <div class="d-flex gap-2">
            <RouterLink class="btn btn-outline-secondary btn-sm" :to="{ name: 'new-alert', query: { id: a.config.id } }">Tune</RouterLink
            ><button type="button" class="btn btn-outline-secondary btn-sm" @click="toggle(a)">Switch off</button>
          </div>
        </div>
      </details>
    </section>
    <RoutesCard v-if="hub.owner" />
  </main>
</template>

<style scoped>
.alerts {
  list-style: none;
  margin: 0;
  padding: 0;
}
.alerts li {
  display: grid;
  grid-template-columns: 22px 24px minmax(0, 1fr) 160px;
  gap: 4px 10px;
  align-items: start;
  padding: 12px 0;
  border-top: 1px solid var(--line);
}
.alerts li:first-child {
  border-top: 0;
}
.sign {
  color: var(--warn);
  margin-top: 2px;
}
.critical .sign {
  color: var(--critical);
}
.info .sign,
.acknowledged .sign,
.shelved .sign,
.out_of_service .sign {
  color: var(--soft);
}
.kind {
  font-size: 0.75rem;
  font-weight: 650;
  border: 1px solid currentColor;
  border-radius: 99px;
  padding: 0 8px;
  color: var(--warn);
}
.critical .kind {
  color: var(--paper);
  background: var(--critical);
  border-color: var(--critical);
}
.info .kind {
  color: var(--soft);
}
.do {
  font-weight: 600;
}
.spark {
  display: block;
}
.word {
  max-width: 240px;
}
.between .form-select,
.d-flex .form-select {
  width: auto;
}
.btn {
  white-space: nowrap;
}
.entry {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  align-items: center;
  padding: 8px 0;
  border-top: 1px solid var(--line);
  flex-wrap: wrap;
}
.plain {
  border: 0;
  background: none;
  padding: 4px 0;
  text-decoration: underline;
  color: inherit;
}
.scrolls {
  overflow-x: auto;
}
@media (max-width: 620px) {
  .alerts li {
    grid-template-columns: 22px 22px minmax(0, 1fr);
  }
  .spark {
    grid-column: 3;
  }
  .word {
    max-width: none;
    flex: 1 1 100%;
  }
}
</style>
