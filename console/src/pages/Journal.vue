<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { computed, onMounted, reactive, ref, watch } from 'vue'
import { api, ask, sentence, type JournalEntry } from '../api'
import { harmless } from '../chart'
import { clockText } from '../format'
import { useHub, useOnly } from '../hub'
import { zonedInstant } from '../zoned'
import { saveFile } from '../download'

const hub = useHub()
useOnly(() => [])
const entries = ref<JournalEntry[]>([])
const next = ref<number | undefined>()
const failed = ref('')
const loading = ref(true)
const newer = ref(false) // than what is shown
const pageOf = 60
const filter = reactive({ q: '', object: '', place: '', actor: '', from: '', to: '' })
const query = () => ({
  q: filter.q || undefined,
  object: filter.object.trim() || undefined,
  place: filter.place || undefined,
  actor: filter.actor || undefined,
  from: filter.from ? new Date(zonedInstant(`${filter.from}T00:00`, hub.zone)).toISOString() : undefined,
  to: filter.to ? new Date(zonedInstant(`${filter.to}T00:00`, hub.zone) + 24 * 3600_000).toISOString() : undefined,
})
let soon = 0
watch(filter, () => {
  window.clearTimeout(soon)
  soon = window.setTimeout(() => void load(), 250)
})

async function load(more = false) {
  loading.value = true
  try {
    const page = await ask(api.GET('/journal', { params: { query: { ...query(), limit: pageOf, cursor: more ? next.value : undefined } } }))
    entries.value = more ? [...entries.value, ...page.entries] : page.entries
    next.value = page.next
    newer.value &&= more
    failed.value = ''
  } catch (e) {
    failed.value = sentence(e)
  }
  loading.value = false
}
onMounted(() => load())
watch(
  () =>
    Object.values(hub.controls)
      .map((c) => c.state.rev + c.state.phase)
      .join() +
    Object.values(hub.devices)
      .map((d) => d.state.online)
      .join(),
  () => {
    if (entries.value.length > pageOf)
      newer.value = true // whoever reads on further down is left in peace
    else void load()
  },
)
const things = computed(() =>
  [hub.controls, hub.settings, hub.devices].flatMap((list) => Object.values(list)).map((x) => ({ id: x.config.id, name: x.config.name })),
)

const told = ref('')
async function bringBack(e: JournalEntry) {
  told.value = failed.value = ''
  try {
    await ask(api.POST('/journal/{id}/restore', { params: { path: { id: e.id } } }))
    told.value = `${e.object} is as it was before ${when(e)}.`
    await load()
  } catch (err) {
    failed.value = sentence(err)
  }
}
const saving = ref(0) // lines so far
async function save() {
  const cell = (s: string) => `"${harmless(s).replaceAll('"', '""')}"`
  const lines = ['line,at,who,from,what,object,before,after,why']
  try {
    for (let cursor: number | undefined, first = true; first || cursor; first = false) {
      const page: { entries: JournalEntry[]; next?: number } = await ask(
        api.GET('/journal', { params: { query: { ...query(), limit: 500, cursor } } }),
      )
      for (const e of page.entries)
        lines.push([String(e.id), e.at, e.actor, e.source, e.action, e.object, e.before, e.after, e.reason].map(cell).join(','))
      saving.value = lines.length - 1
      cursor = page.next
    }
    saveFile('journal.csv', new Blob([lines.join('\r\n') + '\r\n'], { type: 'text/csv' }))
  } catch (err) {
    failed.value = sentence(err)
  }
  saving.value = 0
}
const when = (e: JournalEntry) =>
  clockText(Date.parse(e.at), hub.zone, {
    weekday: 'short',
    day: '2-digit',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
  })
const change = (e: JournalEntry) => (e.before && e.after ? `${e.before} → ${e.after}` : e.after || e.before)
</script>

<template>
  <main class="page">
    <div class="between mb-3">
      <h1>Journal</h1>
      <BButton class="no-print" variant="outline-secondary" :disabled="saving > 0 || !entries.length" @click="save">{{
        saving ? `${saving} lines …` : 'Save as CSV'
      }}</BButton>
    </div>
    <div class="fields mb-3 no-print" role="search">
      <label><span>Words</span><input v-model="filter.q" type="search" class="form-control" maxlength="200" /></label>
      <label
        ><span>Of</span
        ><input v-model="filter.object" class="form-control" maxlength="100" list="journal-of" placeholder="a control, setting or device"
      /></label>
      <label
        ><span>Place</span
        ><select v-model="filter.place" class="form-select">
          <option value="">everywhere</option>
          <option v-for="p in hub.places" :key="p.id" :value="p.id">{{ p.name }}</option>
        </select></label
      >
      <label
        ><span>By whom</span><input v-model="filter.actor" class="form-control" maxlength="80" placeholder="a person or device"
      /></label>
      <label><span>From</span><input v-model="filter.from" class="form-control" type="date" /></label>
      <label><span>To</span><input v-model="filter.to" class="form-control" type="date" /></label>
      <datalist id="journal-of">
        <option v-for="t in things" :key="t.id" :value="t.id">{{ t.name }}</option>
      </datalist>
    </div>
    <p v-if="newer" class="note" role="status">
      <span>There are newer lines.</span> <button type="button" class="btn btn-outline-secondary btn-sm" @click="load()">Show them</button>
    </p>
    <p v-if="told" class="soft" role="status">{{ told }}</p>
    <div v-if="failed" class="note bad mb-3" role="alert">{{ failed }}</div>
    <section class="sheet">
      <p v-if="!entries.length" class="soft mb-0">
        {{
          loading
            ? 'Asking the hub …'
            : failed
              ? ''
              : Object.values(filter).some(Boolean)
                ? 'There is no such line.'
                : 'Nothing has happened yet. Every switch and every change will be here: who, what, from where and when.'
        }}
      </p>
      <table v-else class="table cards tight">
        <thead>
          <tr>
            <th>When</th>
            <th>Who</th>
            <th>From</th>
            <th>What</th>
            <th>Change</th>
            <th>Why</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="e in entries" :key="e.id">
            <td class="text-nowrap soft">{{ when(e) }}</td>
            <td>{{ e.actor }}</td>
            <td class="soft from">{{ e.source }}</td>
            <td>
              {{ e.action }}
              <button type="button" class="of" :title="`All lines of ${e.object}`" @click="filter.object = e.object">{{ e.object }}</button>
            </td>
            <td class="change">
              {{ change(e) }}
              <button
                v-if="e.kept && hub.owner"
                type="button"
                class="btn btn-outline-secondary btn-sm back"
                :aria-label="`Bring back ${e.object} as it was before ${when(e)}`"
                @click="bringBack(e)">
                Bring back
              </button>
            </td>
            <td class="soft">{{ e.reason }}</td>
          </tr>
        </tbody>
      </table>
    </section>
    <BButton v-if="next" class="mt-3" variant="outline-secondary" :disabled="loading" @click="load(true)">Earlier</BButton>
  </main>
</template>

<style scoped>
.of {
  border: 0;
  background: none;
  padding: 0;
  color: var(--ink);
  font: inherit;
  font-weight: 650;
  text-align: left;
  overflow-wrap: break-word;
}
.of:hover {
  text-decoration: underline;
}
.back {
  display: block;
  margin-top: 4px;
  padding: 2px 8px;
}
.change,
.from {
  overflow-wrap: anywhere;
  min-width: 110px;
}
.change {
  min-width: 150px;
}
</style>
