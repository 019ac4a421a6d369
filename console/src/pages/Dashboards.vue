<script setup lang="ts">
// One's own dashboards and the shared ones, and how to begin one.
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, ask, sentence, type Dashboard, type DashboardView } from '../api'
import { useHub, onDashboard } from '../hub'

const hub = useHub()
const router = useRouter()
const list = ref<DashboardView[] | null>(null)
const failed = ref('')
const name = ref('')
const file = ref<HTMLInputElement>()
async function load() {
  try {
    list.value = (await ask(api.GET('/dashboards'))).items.sort((a, b) => a.config.name.localeCompare(b.config.name))
    failed.value = ''
  } catch (e) {
    failed.value = sentence(e)
  }
}
onMounted(load)
const stop = onDashboard(() => void load())
onUnmounted(stop)

async function make(d: Dashboard) {
  failed.value = ''
  try {
    const id = list.value?.some((x) => x.config.id === d.id) ? '' : d.id // beside what is there, in the place of nothing
    const made = await ask(api.POST('/dashboards', { body: { ...d, id } }))
    await router.push({ name: 'dashboard', params: { id: made.config.id! }, query: { edit: '1' } })
  } catch (e) {
    failed.value = sentence(e)
  }
}
async function ready(of: string) {
  failed.value = ''
  try {
    await make(await ask(api.GET('/dashboards/ready', { params: { query: { of } } })))
  } catch (e) {
    failed.value = sentence(e)
  }
}
// What has no page of its own yet is offered ready made.
const offered = computed(() => {
  const covered = new Set((list.value ?? []).map((d) => d.config.name))
  const places = hub.places.filter(
    (p) => Object.values(hub.devices).some((d) => d.config.place === p.id && !d.config.state) && !covered.has(p.name),
  )
  const crowded = new Set(
    hub.places.filter((p) => Object.values(hub.devices).filter((d) => d.config.place === p.id).length > 1).map((p) => p.id),
  )
  const devices = Object.values(hub.devices).filter(
    (d) => !d.config.state && crowded.has(d.config.place) && !covered.has(d.config.name) && !places.some((p) => p.name === d.config.name),
  )
  return [...places, ...devices.map((d) => d.config)].map(({ id, name }) => ({ id, name }))
})
async function bring(e: Event) {
  const f = (e.target as HTMLInputElement).files?.[0]
  if (!f) return
  try {
    const d = JSON.parse(await f.text()) as Dashboard
    await make({ ...d, id: undefined, by: undefined })
  } catch (err) {
    failed.value = err instanceof SyntaxError ? 'This file is no dashboard: it cannot be read as JSON.' : sentence(err)
  }
  if (file.value) file.value.value = ''
}
const shared = { '': 'yours alone', household: 'the household', everybody: 'everybody' } as const
</script>

<template>
  <main class="page stack">
    <div class="between"><h1>Dashboards</h1></div>
    <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
    <p v-if="!list && !failed" class="soft" aria-busy="true">Asking the hub …</p>
    <section v-else-if="list && !list.length" class="sheet empty">
      <svg viewBox="0 0 120 60" width="120" height="60" aria-hidden="true">
        <g fill="none" stroke="var(--line)" stroke-width="2.4">
          <rect x="6" y="6" width="48" height="22" rx="5" />
          <rect x="62" y="6" width="52" height="48" rx="5" />
          <rect x="6" y="36" width="48" height="18" rx="5" />
        </g>
        <circle cx="88" cy="30" r="4" fill="var(--ember)" />
      </svg>
      <h2>No dashboard yet</h2>
      <p class="soft">
        {{
          hub.member
            ? 'Now arranges itself. A dashboard is a page that you arrange: values, gauges, switches, charts and drawings, for a tablet in the workshop or a screen by the door.'
            : 'Nobody has shared one with guests.'
        }}
      </p>
    </section>
    <ul v-else-if="list" class="cards">
      <li v-for="d in list" :key="d.config.id">
        <RouterLink class="sheet card-link" :to="{ name: 'dashboard', params: { id: d.config.id! } }" :data-dashboard="d.config.id"
          ><strong>{{ d.config.name }}</strong
          ><span class="soft small-text"
            >{{ d.config.tiles.length }} tiles · {{ shared[d.config.shared ?? '']
            }}{{ d.state.by !== hub.me?.name ? `, by ${d.state.by}` : '' }}</span
          ></RouterLink
        >
      </li>
    </ul>
    <section v-if="hub.member && list" class="sheet no-print">
      <h2>A new one</h2>
      <form class="fields mt-2" @submit.prevent="make({ name, tiles: [] })">
        <label><span>Name</span><input v-model="name" class="form-control" required maxlength="80" placeholder="Workshop tablet" /></label>
        <button class="btn btn-primary">Make it</button>
        <button type="button" class="btn btn-outline-secondary" @click="file?.click()">From a file</button>
        <input
          ref="file"
          type="file"
          accept="application/json,.json"
          class="visually-hidden"
          aria-label="Dashboard file"
          tabindex="-1"
          @change="bring" />
      </form>
      <template v-if="offered.length">
        <p class="soft small-text mt-3 mb-2">Or ready made, with everything that is there:</p>
        <div class="d-flex flex-wrap gap-2">
          <button
            v-for="o in offered"
            :key="o.id"
            type="button"
            class="btn btn-outline-secondary btn-sm"
            :data-ready="o.id"
            @click="ready(o.id)">
            {{ o.name }}
          </button>
        </div>
      </template>
    </section>
  </main>
</template>

<style scoped>
.cards {
  list-style: none;
  padding: 0;
  margin: 0;
  display: grid;
  gap: 12px;
  grid-template-columns: repeat(auto-fill, minmax(min(100%, 260px), 1fr));
}
.card-link {
  display: grid;
  gap: 4px;
  text-decoration: none;
  height: 100%;
}
.card-link:hover {
  border-color: var(--soft);
}
.empty {
  text-align: center;
  padding: 40px 20px;
  display: grid;
  justify-items: center;
  gap: 10px;
}
.empty p {
  max-width: 46ch;
}
</style>
