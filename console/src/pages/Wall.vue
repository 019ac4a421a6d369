<script setup lang="ts">
// A dashboard on a screen that nobody sits at: large, dim at night, always reconnecting, and plain about not being live.
import { useEventListener, useIntervalFn, useWindowSize } from '@vueuse/core'
import { computed, onMounted, onUnmounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, HubError, sentence, type Dashboard, type Wall } from '../api'
import { useBoard } from '../board'
import GridView from '../components/tiles/GridView.vue'
import TileFrame from '../components/tiles/TileFrame.vue'
import { clockText, length } from '../format'
import { onDashboard, useHub } from '../hub'
import { gap } from '../dashboards'

const hub = useHub()
const route = useRoute()
const router = useRouter()
const wall = ref<Wall | null>(null)
const board = ref<Dashboard | null>(null)
const failed = ref('')
const ended = ref(false)
const { traces, runs, from, to, formulas } = useBoard(
  () => board.value,
  () => board.value?.id ?? '',
)

async function load() {
  failed.value = ''
  try {
    if (route.name === 'wall-of') {
      board.value = (await ask(api.GET('/dashboards/{id}', { params: { path: { id: String(route.params.id) } } }))).config
      return
    }
    const key = location.hash.slice(1)
    const got = await ask(api.POST('/wall', { body: key ? { key } : {} }))
    // The key goes into a cookie that no script reads, and out of the address, so that no picture of the screen holds it.
    if (key) history.replaceState(history.state, '', location.pathname)
    wall.value = got.wall
    board.value = got.dashboard.config
    ended.value = false
    hub.stand(got.wall)
  } catch (e) {
    ended.value = e instanceof HubError && (e.status === 401 || e.status === 404)
    failed.value = sentence(e)
    if (!ended.value) retry = window.setTimeout(load, 5000)
  }
}
let retry = 0
const stop = onDashboard((id) => {
  if (!board.value || id === board.value.id) void load()
})
useIntervalFn(() => {
  if (wall.value && hub.link === 'lost' && hub.refused) void load()
}, 10_000)

// The screen stays awake where the browser lets it.
let lock: WakeLockSentinel | null = null
const awake = ref<'yes' | 'no' | 'forbidden'>('no')
async function stay() {
  if (!('wakeLock' in navigator)) {
    awake.value = 'forbidden'
    return
  }
  try {
    lock = await navigator.wakeLock.request('screen')
    awake.value = 'yes'
    lock.addEventListener('release', () => (awake.value = 'no'))
  } catch {
    awake.value = 'no'
  }
}
function back() {
  if (document.visibilityState === 'visible') void stay()
}

// A touch lights a dimmed screen for a while, and shows what is to be said about it.
const touched = ref(0)
const touch = () => (touched.value = Date.now())
const near = computed(() => hub.now && Date.now() - touched.value < 20_000)
const minutes = (t: string) => Number(t.slice(0, 2)) * 60 + Number(t.slice(3, 5))
const dim = computed(() => {
  const w = wall.value
  if (!w?.dim_from || !w.dim_until || near.value) return false
  const now = minutes(
    new Intl.DateTimeFormat('en-GB', { timeZone: hub.zone, hour: '2-digit', minute: '2-digit', hourCycle: 'h23' }).format(hub.now),
  )
  const [a, b] = [minutes(w.dim_from), minutes(w.dim_until)]
  return a < b ? now >= a && now < b : now >= a || now < b
})
const { height } = useWindowSize()
const rows = computed(() => Math.max(1, ...(board.value?.tiles ?? []).map((t) => t.y + t.h)))
const row = computed(() => Math.max(84, (height.value - 64 - (rows.value - 1) * gap) / rows.value))
const silence = computed(() => hub.now - hub.offset - hub.lostSince)
const live = computed(() => hub.link === 'live')
useEventListener(document, 'visibilitychange', back)
useEventListener(window, 'pointerdown', touch)
onMounted(() => {
  void load()
  void stay()
  document.documentElement.classList.add('wall')
})
onUnmounted(() => {
  stop()
  window.clearTimeout(retry)
  void lock?.release()
  document.documentElement.classList.remove('wall')
})
</script>

<template>
  <main class="wall-page" :class="{ dim, dead: !live }">
    <header>
      <h1>{{ board?.name ?? wall?.name ?? 'Wall' }}</h1>
      <span v-if="near && awake !== 'yes'" class="soft small-text">{{
        awake === 'forbidden'
          ? 'Browsers keep a screen awake over HTTPS alone; open the wall by https, or set the screen of this device to stay on.'
          : 'The browser does not keep this screen awake now.'
      }}</span>
      <button
        v-if="near && route.name === 'wall-of'"
        type="button"
        class="btn btn-outline-secondary btn-sm"
        @click="router.push({ name: 'dashboard', params: { id: String(route.params.id) } })">
        Back
      </button>
      <span class="state" :class="{ live }" role="status"><i></i>{{ live ? 'live' : 'not live' }}</span>
      <time>{{ clockText(hub.now, hub.zone) }}</time>
    </header>
    <div v-if="!live && board && !failed" class="dead-note" role="alert">
      NOT LIVE for {{ length(silence) }}. What stands here is as it was at {{ clockText(hub.lostSince + hub.offset, hub.zone) }}.
    </div>
    <section v-if="failed" class="sheet lost">
      <h2>{{ ended ? 'This wall has ended' : 'No hub' }}</h2>
      <p class="soft mb-0">
        {{
          ended ? 'Its key was revoked, or its dashboard was taken away. Open it by a new link.' : failed + ' It is tried again by itself.'
        }}
      </p>
    </section>
    <GridView v-else-if="board" v-slot="{ tile: t }" :dashboard="board" :row="row"
      ><TileFrame :tile="t" :traces="traces" :runs="runs" :from="from" :to="to" :formulas="formulas" wall
    /></GridView>
    <p v-else class="soft" aria-busy="true">Asking the hub …</p>
  </main>
</template>

<style scoped>
.wall-page {
  min-height: 100dvh;
  padding: 8px 14px 14px;
  font-size: clamp(0.9375rem, 1.25vw, 1.6rem);
  transition: filter 1s;
}
.wall-page header {
  display: flex;
  align-items: center;
  gap: 18px;
  height: 42px;
}
.wall-page h1 {
  margin-right: auto;
  font-size: 1.1em;
}
.wall-page time {
  font-weight: 650;
  font-size: 1.2em;
}
.state {
  display: flex;
  gap: 7px;
  align-items: center;
  color: var(--warn);
  font-weight: 650;
}
.state i {
  width: 9px;
  height: 9px;
  border-radius: 50%;
  border: 2px dashed var(--warn);
}
.state.live {
  color: var(--soft);
  font-weight: 400;
}
.state.live i {
  background: var(--well);
  border: 0;
}
.dead-note {
  background: var(--warn);
  color: var(--paper);
  font-weight: 700;
  padding: 10px 16px;
  border-radius: 10px;
  margin-bottom: 10px;
  text-align: center;
}
.dead :deep(.grid) {
  filter: grayscale(1);
  opacity: 0.55;
}
.dim {
  filter: brightness(0.35);
}
.wall-page :deep(.tile .body) {
  --big: clamp(1.5rem, min(17cqi, 34cqb), 7rem);
}
.wall-page :deep(.tile header),
.wall-page :deep(.small-text) {
  font-size: 0.85em;
}
.lost {
  max-width: 560px;
  margin: 20vh auto 0;
  text-align: center;
}
</style>
