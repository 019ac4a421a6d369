<script setup lang="ts">
// Screens that show a dashboard by a link of their own. The key in it is shown once and can be revoked.
import { computed, onMounted, ref } from 'vue'
import { api, ask, sentence, type Dashboard, type Wall } from '../api'
import { about, shownOn } from '../dashboards'
import { dayText } from '../format'
import { useHub } from '../hub'

const props = defineProps<{ dashboard: Dashboard }>()
const hub = useHub()
const walls = ref<Wall[]>([])
const failed = ref('')
const name = ref('')
const switches = ref<string[]>([])
const dims = ref(false)
const from = ref('22:00')
const until = ref('06:30')
const link = ref('')
const copied = ref(false)
const path = computed(() => ({ path: { id: props.dashboard.id! } }))
const switchable = computed(() =>
  shownOn(props.dashboard)
    .map((id) => ({ id, ...about(id) }))
    .filter((x) => ['control', 'setting', 'preset'].includes(x.kind)),
)
async function load() {
  try {
    walls.value = await ask(api.GET('/dashboards/{id}/walls', { params: path.value }))
  } catch (e) {
    failed.value = sentence(e)
  }
}
onMounted(load)
async function make() {
  failed.value = ''
  try {
    const got = await ask(
      api.POST('/dashboards/{id}/walls', {
        params: path.value,
        body: { name: name.value, switches: switches.value, ...(dims.value ? { dim_from: from.value, dim_until: until.value } : {}) },
      }),
    )
    link.value = `${location.origin}/wall#${got.key}`
    name.value = ''
    switches.value = []
    copied.value = false
    await load()
  } catch (e) {
    failed.value = sentence(e)
  }
}
async function end(w: Wall) {
  try {
    await ask(api.DELETE('/dashboards/{id}/walls/{wall}', { params: { path: { id: props.dashboard.id!, wall: w.id } } }))
    await load()
  } catch (e) {
    failed.value = sentence(e)
  }
}
async function copy() {
  try {
    await navigator.clipboard.writeText(link.value)
    copied.value = true
  } catch {
    failed.value = 'Over plain HTTP a browser does not let a page copy; select the link and copy it by hand.'
  }
}
</script>

<template>
  <section aria-label="Walls">
    <h2>Walls</h2>
    <p class="soft small-text mb-2">
      A screen by the door opens it full screen by a link of its own, with nobody signed in. It sees what is on this dashboard, and nothing
      else.
    </p>
    <ul v-if="walls.length" class="walls">
      <li v-for="w in walls" :key="w.id" :data-wall="w.id">
        <span
          >{{ w.name }}
          <span class="soft small-text"
            >since {{ dayText(w.created_ms ?? 0, hub.zone)
            }}{{ w.switches?.length ? `, switches ${w.switches.map((s) => about(s).name).join(', ')}` : ''
            }}{{ w.dim_from ? `, dims from ${w.dim_from}` : '' }}</span
          ></span
        ><button type="button" class="btn btn-outline-secondary btn-sm" @click="end(w)">Revoke</button>
      </li>
    </ul>
    <div v-if="link" class="note small-text mb-2" role="status">
      <div>
        <strong>The link, shown this once</strong><code class="link">{{ link }}</code> {{ ' '
        }}<button type="button" class="btn btn-outline-secondary btn-sm" @click="copy">{{ copied ? 'Copied' : 'Copy' }}</button>
      </div>
    </div>
    <form class="stack tight" @submit.prevent="make">
      <label
        ><span class="soft small-text">A new wall, called</span
        ><input v-model="name" class="form-control form-control-sm" required maxlength="80" placeholder="Workshop door"
      /></label>
      <fieldset v-if="switchable.length">
        <legend class="soft small-text">It may switch</legend>
        <label v-for="s in switchable" :key="s.id" class="tick"
          ><input v-model="switches" type="checkbox" :value="s.id" /> {{ s.name }}</label
        >
      </fieldset>
      <label class="tick"><input v-model="dims" type="checkbox" /> It dims at night</label>
      <div v-if="dims" class="fields">
        <label class="short"><span>From</span><input v-model="from" type="time" class="form-control form-control-sm" required /></label
        ><label class="short"><span>Until</span><input v-model="until" type="time" class="form-control form-control-sm" required /></label>
      </div>
      <button class="btn btn-primary btn-sm">Make the link</button>
    </form>
    <p v-if="failed" class="note bad small-text mt-2 mb-0" role="alert">{{ failed }}</p>
  </section>
</template>

<style scoped>
.walls {
  list-style: none;
  padding: 0;
  margin: 0 0 10px;
}
.walls li {
  display: flex;
  justify-content: space-between;
  gap: 10px;
  align-items: center;
  padding: 6px 0;
  border-bottom: 1px solid var(--line);
}
.link {
  display: block;
  user-select: all;
  margin: 4px 0;
}
legend {
  font-size: 0.8125rem;
  margin: 0;
}
.tick {
  display: flex;
  gap: 8px;
  align-items: center;
  min-height: 32px;
}
</style>
