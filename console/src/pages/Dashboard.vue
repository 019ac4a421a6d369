<script setup lang="ts">
// One dashboard: to look at, and, for those who may, to arrange. While arranging, nothing is kept before Save.
import { saveFile } from '../download'
import { BOffcanvas } from 'bootstrap-vue-next/components/BOffcanvas'
import { BModal } from 'bootstrap-vue-next/components/BModal'
import { useEventListener } from '@vueuse/core'
import { computed, defineAsyncComponent, nextTick, onMounted, onUnmounted, ref, watch } from 'vue'
import { onBeforeRouteLeave, useRoute, useRouter } from 'vue-router'
import { api, ask, HubError, sentence, type Dashboard, type DashboardView, type Tile } from '../api'
import Icon from '../components/Icon.vue'
import ThingPicker from '../components/ThingPicker.vue'
import TileEditor from '../components/TileEditor.vue'
import WallsCard from '../components/WallsCard.vue'
import GridView from '../components/tiles/GridView.vue'
import TileFrame from '../components/tiles/TileFrame.vue'
import { about, freeId, inOrder, place, pushed, readyTile } from '../dashboards'
import { onDashboard, useHub } from '../hub'
import { useSteps } from '../steps'
import { useBoard } from '../board'
import { kindName, tileKinds } from '../tiles'

const GridEditor = defineAsyncComponent(() => import('../components/tiles/GridEditor.vue')) // dragging is loaded when somebody arranges
const hub = useHub()
const route = useRoute()
const router = useRouter()
const id = String(route.params.id)
const got = ref<DashboardView | null>(null)
const failed = ref('')
const draft = ref<Dashboard | null>(null)
const board = computed(() => draft.value ?? got.value?.config ?? null)
const { traces, runs, from, to, formulas } = useBoard(
  () => board.value,
  () => got.value?.config.id ?? '',
)
const narrow = ref(false) // arranging the order of a phone
const tight = ref(window.innerWidth < 900)
const resize = () => (tight.value = window.innerWidth < 900)

async function load() {
  try {
    got.value = await ask(api.GET('/dashboards/{id}', { params: { path: { id } } }))
    failed.value = ''
  } catch (e) {
    if (e instanceof HubError && e.status === 404) got.value = null
    failed.value = sentence(e)
  }
}
onMounted(async () => {
  await load()
  if (route.query.edit && got.value?.state.mine) arrange()
})
const stop = onDashboard((changed) => {
  if (changed === id && !saving.value) {
    if (draft.value) stale.value = true
    else void load()
  }
})
onUnmounted(stop)
useEventListener(window, 'resize', resize)
useEventListener(document, 'keydown', keys)

// Arranging.
const { begin, step, undo, redo, renamed, canUndo, canRedo } = useSteps<Dashboard>(draft)
const chosen = ref('')
const opened = ref(false)
const picked = ref('')
const adding = ref(false)
const sharing = ref(false)
const removing = ref(false)
const saving = ref(false)
const stale = ref(false)
const said = ref('')
const elements = ref<Record<string, { id: string; what: string }[]>>({})
const others = ref<{ id: string; name: string }[]>([])
const tile = computed(() => draft.value?.tiles.find((t) => t.id === chosen.value))
const changed = computed(() => canUndo.value || renamed.value)
const clone = <T,>(x: T): T => JSON.parse(JSON.stringify(x)) as T

function arrange() {
  draft.value = clone(got.value!.config)
  begin()
  stale.value = false
  void ask(api.GET('/dashboards'))
    .then(
      (l) =>
        (others.value = l.items.filter((d) => d.state.mine && d.config.id !== id).map((d) => ({ id: d.config.id!, name: d.config.name }))),
    )
    .catch(() => undefined)
}
function keys(e: KeyboardEvent) {
  if (!draft.value || (e.target as HTMLElement).closest?.('input, textarea, select')) return
  if (!(e.ctrlKey || e.metaKey)) return
  if (e.key === 'z' && !e.shiftKey) undo()
  else if (e.key === 'y' || (e.key === 'Z' && e.shiftKey) || (e.key === 'z' && e.shiftKey)) redo()
  else if (e.key === 's') void save()
  else return
  e.preventDefault()
}
const moved = (list: Pick<Tile, 'id' | 'x' | 'y' | 'w' | 'h'>[]) =>
  step((d) => {
    for (const m of list) Object.assign(d.tiles.find((t) => t.id === m.id) ?? {}, m)
  })
function by(tid: string, dx: number, dy: number, dw: number, dh: number) {
  step((d) => {
    const t = d.tiles.find((x) => x.id === tid)!
    const w = Math.min(12, Math.max(1, t.w + dw))
    const next = { ...t, w, h: Math.min(40, Math.max(1, t.h + dh)), x: Math.min(12 - w, Math.max(0, t.x + dx)), y: Math.max(0, t.y + dy) }
    d.tiles = pushed(d.tiles, next)
  })
}
async function add(what: string, plain = false) {
  adding.value = false
  failed.value = ''
  try {
    const made: Tile = plain ? { id: 't', kind: what, x: 0, y: 0, ...tileKinds[what]!.kind.size! } : await readyTile(what)
    step((d) => {
      d.tiles = [...d.tiles, place(d.tiles, { ...made, id: freeId(d.tiles) })]
      chosen.value = d.tiles.at(-1)!.id
    })
    await nextTick()
    document.querySelector<HTMLElement>(`[data-edit="${chosen.value}"]`)?.focus()
    if (plain && tileKinds[what]!.kind.opens) opened.value = true
  } catch (e) {
    failed.value = sentence(e)
  }
}
const remove = (tid: string) =>
  step((d) => {
    d.tiles = d.tiles.filter((t) => t.id !== tid)
    if (d.narrow) d.narrow = d.narrow.filter((x) => x !== tid)
    opened.value = false
  })
const twice = (tid: string) =>
  step((d) => {
    const t = d.tiles.find((x) => x.id === tid)!
    d.tiles.push(place(d.tiles, { ...clone(t), id: freeId(d.tiles) }))
  })
const change = (next: Tile) =>
  step((d) => {
    d.tiles = d.tiles.map((t) => (t.id === next.id ? next : t))
  }, 'change ' + next.id)
const pin = (tid: string, p: string, x: number, y: number) =>
  step((d) => {
    Object.assign(d.tiles.find((t) => t.id === tid)?.pins?.find((q) => q.id === p) ?? {}, { x, y })
  }, 'pin ' + p)
function open(tid: string, p = '') {
  chosen.value = tid
  picked.value = p
  opened.value = true
}
const order = computed(() => (draft.value ? inOrder(draft.value) : []))
function earlier(tid: string, steps: number) {
  step((d) => {
    const ids = inOrder(d).map((t) => t.id)
    const i = ids.indexOf(tid)
    const k = i + steps
    if (k < 0 || k >= ids.length) return
    ids.splice(k, 0, ids.splice(i, 1)[0]!)
    d.narrow = ids
  })
}
async function copyTo(other: string) {
  failed.value = ''
  try {
    const there = await ask(api.GET('/dashboards/{id}', { params: { path: { id: other } } }))
    const config = there.config
    config.tiles.push(place(config.tiles, { ...clone(tile.value!), id: freeId(config.tiles) }))
    await ask(api.PUT('/dashboards/{id}', { params: { path: { id: other }, header: { 'If-Match': there.version } }, body: config }))
    tell(`It is on ${config.name} too.`)
  } catch (e) {
    failed.value = sentence(e)
  }
}
function tell(words: string) {
  said.value = words
  window.setTimeout(() => (said.value = ''), 5000)
}
async function save() {
  if (!draft.value || saving.value) return
  saving.value = true
  failed.value = ''
  try {
    got.value = await ask(
      api.PUT('/dashboards/{id}', {
        params: { path: { id }, header: { 'If-Match': got.value!.version } },
        body: { ...draft.value, tiles: draft.value.tiles.filter((t) => t.kind !== 'picture' || t.picture) },
      }),
    )
    finish()
    tell('Saved.')
  } catch (e) {
    failed.value = sentence(e)
  } finally {
    saving.value = false
  }
}
function finish() {
  draft.value = null
  opened.value = false
  begin()
  narrow.value = false
  if (route.query.edit) void router.replace({ query: {} })
}
function share(part: Partial<Dashboard>) {
  draft.value = { ...clone(got.value!.config), ...part }
  renamed.value = true
  void save()
}
function askRemoval() {
  sharing.value = false
  removing.value = true
}
function beginAdding() {
  if (!draft.value) arrange()
  adding.value = true
}
function leave() {
  asking.value?.(true)
  asking.value = null
}
function takeTheirs() {
  finish()
  void load()
}
async function saveAnyway() {
  got.value = await ask(api.GET('/dashboards/{id}', { params: { path: { id } } })) // theirs is in the journal; ours wins by choice
  stale.value = false
  await save()
}
async function away() {
  removing.value = false
  try {
    await ask(api.DELETE('/dashboards/{id}', { params: { path: { id } } }))
    finish()
    await router.push({ name: 'dashboards' })
  } catch (e) {
    failed.value = sentence(e)
  }
}
function file() {
  saveFile(`${id}.json`, new Blob([JSON.stringify(got.value!.config, null, 2) + '\n'], { type: 'application/json' }))
}
const asking = ref<((go: boolean) => void) | null>(null)
onBeforeRouteLeave(() => {
  if (!draft.value || !changed.value || removing.value) return true
  return new Promise<boolean>((answer) => (asking.value = answer))
})
function unload(e: BeforeUnloadEvent) {
  if (draft.value && changed.value) e.preventDefault()
}
useEventListener(window, 'beforeunload', unload)
const simple = Object.keys(tileKinds).filter((k) => tileKinds[k]!.kind.size)
const named = (t: Tile) => t.name || (t.of?.length ? about(t.of[0]!).name : kindName(t.kind))
const sharings = {
  '': 'nobody, it is mine alone',
  household: 'the household',
  everybody: 'everybody, guests see of it what is open to them',
} as const
watch(
  () => board.value?.name,
  (n) => (hub.heading = n ?? ''),
)
</script>

<template>
  <main class="page board">
    <div v-if="failed" class="note bad mb-3" role="alert">{{ failed }}</div>
    <template v-if="board && got">
      <div class="between head mb-3">
        <h1>{{ board.name }}</h1>
        <div v-if="!draft" class="d-flex gap-2 flex-wrap no-print">
          <span class="soft small-text" role="status">{{ said }}</span>
          <RouterLink class="btn btn-outline-secondary btn-sm" :to="{ name: 'wall-of', params: { id } }">Full screen</RouterLink>
          <button type="button" class="btn btn-outline-secondary btn-sm" @click="file">To a file</button>
          <button v-if="got.state.mine" type="button" class="btn btn-outline-secondary btn-sm" @click="sharing = true">Share</button>
          <button v-if="got.state.mine" type="button" class="btn btn-primary btn-sm" @click="arrange">Arrange</button>
        </div>
        <div v-else class="d-flex gap-2 flex-wrap tools" role="toolbar" aria-label="Arranging">
          <span class="soft small-text" role="status">{{ said }}</span>
          <button type="button" class="btn btn-outline-secondary btn-sm" :disabled="!canUndo" title="Ctrl+Z" @click="undo">Undo</button>
          <button type="button" class="btn btn-outline-secondary btn-sm" :disabled="!canRedo" title="Ctrl+Y" @click="redo">Redo</button>
          <button v-if="!tight" type="button" class="btn btn-outline-secondary btn-sm" :aria-pressed="narrow" @click="narrow = !narrow">
            {{ narrow ? 'Wide screen' : 'Phone' }}
          </button>
          <button type="button" class="btn btn-outline-secondary btn-sm" @click="adding = true">Add a tile</button>
          <button type="button" class="btn btn-outline-secondary btn-sm" @click="finish">{{ changed ? 'Leave it' : 'Done' }}</button>
          <button type="button" class="btn btn-primary btn-sm" :disabled="!changed || saving" title="Ctrl+S" @click="save">Save</button>
        </div>
      </div>
      <div v-if="stale" class="note mb-3" role="alert">
        <div>
          Somebody else changed this dashboard meanwhile.
          <button type="button" class="btn btn-outline-secondary btn-sm" @click="saveAnyway">Save mine all the same</button>
          {{ ' ' }}<button type="button" class="btn btn-outline-secondary btn-sm" @click="takeTheirs">Take theirs</button>
        </div>
      </div>
      <section v-if="!board.tiles.length" class="sheet empty">
        <h2>Nothing on it yet</h2>
        <p class="soft">
          {{
            got.state.mine
              ? 'Add a value, a switch, a chart or a drawing. Choosing a signal picks a tile that suits it.'
              : 'Whoever made it has not put anything on it.'
          }}
        </p>
        <button v-if="got.state.mine" type="button" class="btn btn-primary" @click="beginAdding">Add a tile</button>
      </section>
      <GridView v-else-if="!draft" v-slot="{ tile: t }" :dashboard="board"
        ><TileFrame :tile="t" :traces="traces" :runs="runs" :from="from" :to="to" :formulas="formulas"
      /></GridView>
      <template v-else-if="!narrow && !tight">
        <p class="soft small-text">
          Drag a tile by its handle, resize it at its corner. By keys: arrows move, with Shift they resize, Enter opens its settings, d
          makes it twice, Delete takes it away.
        </p>
        <GridEditor
          v-slot="{ tile: t }"
          :tiles="draft.tiles"
          :chosen="chosen"
          @moved="moved"
          @by="by"
          @choose="chosen = $event"
          @open="open"
          @remove="remove"
          @twice="twice">
          <TileFrame
            :tile="t"
            :traces="traces"
            :runs="runs"
            :from="from"
            :to="to"
            :formulas="formulas"
            editing
            :picked="picked"
            @pin="(p, x, y) => pin(t.id, p, x, y)"
            @pick="
              (p) => {
                chosen = t.id
                picked = p
              }
            "
            @elements="elements[t.id] = $event" />
        </GridEditor>
      </template>
      <div v-else class="phone-order">
        <p class="soft small-text">The order on a narrow screen. On a wide one the tiles stay where they lie.</p>
        <div v-for="(t, i) in order" :key="t.id" class="entry" :data-order="t.id">
          <div class="between mb-1">
            <span class="small-text soft">{{ named(t) }}, {{ kindName(t.kind).toLowerCase() }}</span>
            <span class="d-flex gap-1"
              ><button
                type="button"
                class="btn btn-outline-secondary btn-sm"
                :disabled="i === 0"
                :aria-label="`${named(t)} earlier`"
                @click="earlier(t.id, -1)">
                ↑</button
              ><button
                type="button"
                class="btn btn-outline-secondary btn-sm"
                :disabled="i === order.length - 1"
                :aria-label="`${named(t)} later`"
                @click="earlier(t.id, 1)">
                ↓</button
              ><button type="button" class="btn btn-outline-secondary btn-sm" :aria-label="`Settings of ${named(t)}`" @click="open(t.id)">
                <Icon name="gear" :size="15" /></button
              ><button type="button" class="btn btn-outline-secondary btn-sm" :aria-label="`Take ${named(t)} away`" @click="remove(t.id)">
                ×
              </button></span
            >
          </div>
          <div :style="{ height: `${t.h * 84}px` }">
            <TileFrame
              :tile="t"
              :traces="traces"
              :runs="runs"
              :from="from"
              :to="to"
              :formulas="formulas"
              editing
              @pin="(p, x, y) => pin(t.id, p, x, y)"
              @elements="elements[t.id] = $event" />
          </div>
        </div>
      </div>
    </template>
    <section v-else-if="failed" class="sheet empty">
      <h2>There is no such dashboard</h2>
      <p class="soft">It was taken away, or it is not shared with you.</p>
      <RouterLink class="btn btn-outline-secondary" :to="{ name: 'dashboards' }">All dashboards</RouterLink>
    </section>
    <p v-else class="soft" aria-busy="true">Asking the hub …</p>

    <BOffcanvas
      v-model="opened"
      placement="end"
      :title="tile ? named(tile) : ''"
      :no-backdrop="!tight"
      body-scrolling
      class="tile-settings">
      <TileEditor
        v-if="tile"
        :tile="tile"
        :elements="elements[tile.id] ?? []"
        :others="others"
        :picked="picked"
        @change="change"
        @copy="copyTo"
        @pick="picked = $event" />
    </BOffcanvas>
    <BModal v-model="adding" title="Add a tile" no-footer body-class="pt-0">
      <div class="d-flex flex-wrap gap-2 mb-3">
        <button v-for="k in simple" :key="k" type="button" class="btn btn-outline-secondary btn-sm" :data-kind="k" @click="add(k, true)">
          {{ kindName(k) }}
        </button>
      </div>
      <ThingPicker label="A signal, control, setting or preset" :kinds="['signal', 'control', 'setting', 'preset']" @pick="add($event)" />
    </BModal>
    <BModal v-model="sharing" title="Share" no-footer>
      <template v-if="got">
        <label class="d-block mb-2"
          ><span class="soft small-text">Name</span
          ><input
            class="form-control"
            maxlength="80"
            :value="got.config.name"
            @change="(e) => share({ name: (e.target as HTMLInputElement).value })"
        /></label>
        <label class="d-block mb-3"
          ><span class="soft small-text">It is seen by</span
          ><select
            class="form-select"
            :value="got.config.shared ?? ''"
            @change="(e) => share({ shared: (e.target as HTMLSelectElement).value as '' })">
            <option v-for="(n, s) in sharings" :key="s" :value="s">{{ n }}</option>
          </select></label
        >
        <WallsCard :dashboard="got.config" />
        <hr />
        <button type="button" class="btn btn-outline-secondary btn-sm" @click="askRemoval">Take the dashboard away</button>
      </template>
    </BModal>
    <BModal
      v-model="removing"
      :title="`Take ${board?.name} away?`"
      ok-title="Take it away"
      cancel-title="Leave it"
      ok-variant="primary"
      cancel-variant="outline-secondary"
      @ok="away"
      >Its walls go dark at once. A file made before brings it back.</BModal
    >
    <BModal
      :model-value="!!asking"
      title="Leave what you arranged?"
      ok-title="Leave it"
      cancel-title="Go on arranging"
      ok-variant="primary"
      cancel-variant="outline-secondary"
      @update:model-value="
        (v) => {
          if (!v && asking) {
            asking(false)
            asking = null
          }
        }
      "
      @ok="leave"
      >It is not saved yet.</BModal
    >
  </main>
</template>

<style scoped>
.head {
  align-items: center;
}
.tools {
  position: sticky;
  top: 56px;
  z-index: 5;
}
.empty {
  text-align: center;
  padding: 40px 20px;
  display: grid;
  justify-items: center;
  gap: 10px;
}
.phone-order {
  max-width: 420px;
  display: grid;
  gap: 14px;
}
@media (max-width: 820px) {
  .tools {
    bottom: 62px;
    top: auto;
  }
}
</style>
