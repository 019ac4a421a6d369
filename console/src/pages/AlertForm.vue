<script setup lang="ts">
// Tell me when …: what it is about, from where on, and beside it the last month with how often the alert would have come.
import { computed, reactive, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { alertKinds, kindsAbout, type AlertKind, type Thing } from '../alertkinds'
import { api, ask, keepPart, sentence, type AlertConfig, type AlertTrial, type History } from '../api'
import FormulaBox from '../components/deciding/FormulaBox.vue'
import ThingPicker from '../components/ThingPicker.vue'
import { useSend } from '../form'
import { dayText, length, unitSign } from '../format'
import { useHub } from '../hub'

const hub = useHub()
const route = useRoute()
const router = useRouter()
const of = ref(String(route.query.of ?? ''))
const form = reactive<AlertConfig>({
  id: '',
  name: '',
  kind: 'above',
  severity: 'warning',
  of: of.value,
  limit: 0,
  upper: 0,
  band: 0,
  after_ms: 60_000,
  settle_ms: 0,
  rest_ms: 0,
  span_ms: 3600_000,
  text: '',
  latch: false,
  when: '',
  until: '',
  word: '',
  from: '',
  to: '',
  falls: false,
  early: '',
})
const changing = ref(false)
const { failed, busy, send } = useSend()
const signal = computed(() => hub.signals[of.value])
const control = computed(() => hub.controls[of.value])
const device = computed(() => hub.devices[of.value])
const thing = computed<Thing>(() =>
  signal.value ? (signal.value.config.kind as Thing) : control.value ? 'control' : device.value ? 'device' : 'nothing',
)
const kinds = computed(() => kindsAbout(thing.value))
const kind = computed<AlertKind>(() => alertKinds[form.kind] ?? { says: form.kind, about: [] })
const limited = computed(() => !!kind.value.drawn)
const unit = computed(() => unitSign(signal.value?.config.unit ?? ''))

// The last month, to choose by.
const month = 30 * 86_400_000
const past = shallowRef<History | null>(null)
const low = ref(0)
const high = ref(1)
const entered = () => JSON.stringify([form.limit, form.upper, form.band])
async function look() {
  const before = entered()
  past.value = null
  if (!signal.value || signal.value.config.kind === 'text') return
  const to = Date.now() + hub.offset
  const h = (
    await ask(
      api.GET('/history', {
        params: {
          query: {
            series: [of.value],
            from: new Date(to - month).toISOString(),
            to: new Date(to).toISOString(),
            points: 400,
            buckets: true,
          },
        },
      }),
    ).catch(() => [null])
  )[0]
  if (!h) return
  past.value = h
  const seen = [...(h.min ?? []), ...(h.max ?? [])].filter((v) => v !== null)
  low.value = seen.length ? Math.min(...seen) : 0
  high.value = seen.length ? Math.max(...seen) : 1
  if (!changing.value && signal.value.config.kind === 'number' && before === entered()) suggest() // what somebody typed meanwhile stays
}
const range = computed(() => Math.max(high.value - low.value, 10 ** -(signal.value?.config.decimals ?? 0)))
const round = (v: number) => Number(v.toFixed(Math.max(signal.value?.config.decimals ?? 0, 0)))
function suggest() {
  form.band = round(range.value * 0.05) || 10 ** -(signal.value?.config.decimals ?? 0)
  const begins = kind.value.begins?.(low.value, high.value, range.value)
  if (begins?.limit !== undefined) form.limit = round(begins.limit)
  if (begins?.upper !== undefined) form.upper = round(begins.upper)
}
watch(of, (id) => {
  form.of = id
  if (!kinds.value.includes(form.kind)) form.kind = kinds.value[0]!
  void look()
})
watch(
  () => form.kind,
  () => {
    if (!changing.value) suggest()
  },
)
let version: string | undefined
async function begin() {
  const id = String(route.query.id ?? '')
  if (id) {
    const found = await ask(api.GET('/alerts/{id}', { params: { path: { id } } })).catch(() => null)
    if (found) {
      changing.value = true
      version = found.version
      Object.assign(form, found.config)
      of.value = found.config.of ?? ''
    }
  } else if (of.value && !kinds.value.includes(form.kind)) form.kind = kinds.value[0]! // else what it is about is chosen first
  void look()
}
void begin()

// How it would have been; while somebody drags, the newest answer counts.
const trial = shallowRef<AlertTrial | null>(null)
const trouble = ref('')
const took = ref(0)
let asked = 0
const body = (): AlertConfig => {
  const f = form
  const out: AlertConfig = {
    id: f.id,
    name: f.name || 'x',
    kind: f.kind,
    severity: f.severity,
    of: of.value || undefined,
    text: f.text || undefined,
    after_ms: f.after_ms,
    settle_ms: f.settle_ms,
    rest_ms: f.rest_ms,
    latch: f.latch,
    off: f.off,
    days: f.days,
    from: f.from || undefined,
    to: f.to || undefined,
  }
  const k = kind.value
  if (k.limit)
    Object.assign(out, {
      limit: f.limit,
      band: f.band,
      upper: k.upper ? f.upper : undefined,
      early: k.early ? f.early || undefined : undefined,
    })
  if (k.span) Object.assign(out, { span_ms: f.span_ms, falls: f.falls })
  if (k.word) out.word = f.word || undefined
  if (k.formula) Object.assign(out, { when: f.when, until: f.until || undefined, of: undefined })
  return out
}
async function tryIt() {
  const mine = ++asked
  if (!kind.value.formula && !kind.value.tried?.includes(thing.value)) {
    trial.value = null
    return
  }
  if (kind.value.formula) {
    // it takes longer, and half a formula is none
    if (!form.when) return void (trial.value = null)
    await new Promise((r) => window.setTimeout(r, 700))
    if (mine !== asked) return
  }
  const begun = performance.now()
  try {
    const got = await ask(api.POST('/alerts/try', { body: { alert: body() } }))
    if (mine !== asked) return
    trial.value = got
    took.value = performance.now() - begun
    trouble.value = ''
  } catch (e) {
    if (mine === asked) {
      trouble.value = sentence(e)
      if (kind.value.formula) trial.value = null
    }
  }
}
watch(
  () => [
    form.kind,
    form.limit,
    form.upper,
    form.band,
    form.after_ms,
    form.settle_ms,
    form.rest_ms,
    form.span_ms,
    form.from,
    form.to,
    form.when,
    form.until,
    of.value,
    past.value,
  ],
  tryIt,
)

// The drawing: the band of the month, the limits as lines that are dragged, and when it would have been active.
const W = 800
const H = 220
const from = computed(() => (past.value ? Date.parse(past.value.from) : 0))
const to = computed(() => (past.value ? Date.parse(past.value.to) : 1))
const bottom = computed(() => Math.min(low.value, form.limit ?? 0) - range.value * 0.1)
const top = computed(() => Math.max(high.value, form.limit ?? 0, kind.value.upper ? (form.upper ?? 0) : -Infinity) + range.value * 0.1)
const x = (t: number) => ((t - from.value) / (to.value - from.value)) * W
const y = (v: number) => H - ((v - bottom.value) / (top.value - bottom.value)) * H
const band = computed(() => {
  const h = past.value
  if (!h?.min) return ''
  const points = h.t.map((t, i) => [t, h.min![i], h.max![i]] as const).filter((p) => p[1] !== null)
  return points.length
    ? 'M' +
        points.map(([t, , b]) => `${x(t).toFixed(1)},${y(b!).toFixed(1)}`).join('L') +
        'L' +
        [...points]
          .reverse()
          .map(([t, a]) => `${x(t + h.step_ms / 2).toFixed(1)},${(y(a!) + 0.6).toFixed(1)}`)
          .join('L') +
        'Z'
    : ''
})
const box = ref<SVGSVGElement>()
let dragged: 'limit' | 'upper' | null = null
function grab(e: PointerEvent, which: 'limit' | 'upper') {
  dragged = which
  box.value!.setPointerCapture(e.pointerId)
}
function drag(e: PointerEvent) {
  if (!dragged) return
  const r = box.value!.getBoundingClientRect()
  form[dragged] = round(bottom.value + (1 - (e.clientY - r.top) / r.height) * (top.value - bottom.value))
}
const step = computed(() => 10 ** -(signal.value?.config.decimals ?? 0))
const name = computed(() => signal.value?.config.name ?? control.value?.config.name ?? device.value?.config.name ?? '')
const proposed = computed(() =>
  name.value
    ? `${name.value} ${kind.value.says}${limited.value && !kind.value.upper ? ` ${form.limit} ${unit.value}` : ''}`
    : 'Tell me when',
)
const save = () =>
  send(async () => {
    const b = body()
    b.name = form.name || proposed.value
    await keepPart('alerts', b, version)
    await router.push({ name: 'alerts' })
  })
const ms = (key: 'after_ms' | 'settle_ms' | 'rest_ms' | 'span_ms') =>
  computed({ get: () => String((form[key] ?? 0) / 60_000), set: (v) => (form[key] = Math.round(Number(v) * 60_000)) })
const after = ms('after_ms')
const settle = ms('settle_ms')
const rest = ms('rest_ms')
const over = ms('span_ms')
</script>

<template>
  <main class="page stack narrow">
    <div class="between">
      <h1>{{ changing ? form.name : 'Tell me when …' }}</h1>
      <RouterLink :to="{ name: 'alerts' }">All alerts</RouterLink>
    </div>
    <section v-if="!of && !kind.formula" class="sheet">
      <ThingPicker label="A signal, a control or a device" :kinds="['signal', 'control']" @pick="of = $event" />
      <div class="d-flex flex-wrap gap-2 mt-3">
        <button
          v-for="d in Object.values(hub.devices)"
          :key="d.config.id"
          type="button"
          class="btn btn-outline-secondary btn-sm"
          @click="of = d.config.id">
          {{ d.config.name }} is away</button
        ><button type="button" class="btn btn-outline-secondary btn-sm" @click="form.kind = 'formula'">A formula</button>
      </div>
    </section>
    <form v-else class="sheet stack" @submit.prevent="save">
      <div class="fields">
        <label v-if="!kind.formula"
          ><span>What</span
          ><span class="form-control-plaintext"
            >{{ name || of }}
            <button v-if="!changing" type="button" class="btn btn-outline-secondary btn-sm" @click="of = ''">another</button></span
          ></label
        >
        <label v-if="!kind.formula"
          ><span>It</span
          ><select v-model="form.kind" class="form-select" aria-label="Kind">
            <option v-for="k in kinds" :key="k" :value="k">{{ alertKinds[k]!.says }}</option>
          </select></label
        >
        <label v-if="kind.limit" class="short"
          ><span>{{ kind.limit }} {{ unit }}</span
          ><input v-model.number="form.limit" class="form-control" type="number" :step="kind.whole ? 1 : step" required aria-label="Limit"
        /></label>
        <label v-if="kind.upper" class="short"
          ><span>Upper end {{ unit }}</span
          ><input v-model.number="form.upper" class="form-control" type="number" :step="step" required
        /></label>
        <label v-if="kind.span" class="short"
          ><span>{{ kind.span }}</span
          ><input v-model="over" class="form-control" type="number" min="0.2" step="any"
        /></label>
        <label v-if="kind.falls" class="check"><input v-model="form.falls" type="checkbox" class="form-check-input" /> falling</label>
        <label v-if="kind.word && thing === 'text'"><span>The word</span><input v-model="form.word" class="form-control" required /></label>
      </div>
      <FormulaBox v-if="kind.formula" v-model="form.when!" label="When" />
      <template v-if="past && (limited || trial)">
        <svg
          ref="box"
          class="past"
          :viewBox="`0 0 ${W} ${H}`"
          preserveAspectRatio="none"
          role="img"
          :aria-label="`The last month: from ${low} to ${high} ${unit}; the limit at ${form.limit}`"
          @pointermove="drag"
          @pointerup="dragged = null"
          @pointercancel="dragged = null">
          <rect
            v-for="o in trial?.occurrences ?? []"
            :key="o.from"
            :x="x(o.from)"
            y="0"
            :width="Math.max(1.5, x(o.to) - x(o.from))"
            :height="H"
            class="hit" />
          <path :d="band" fill="var(--data)" stroke="var(--data)" stroke-width="1" fill-opacity="0.55" vector-effect="non-scaling-stroke" />
          <template v-if="limited">
            <g v-for="k in (kind.upper ? ['limit', 'upper'] : ['limit']) as ('limit' | 'upper')[]" :key="k">
              <line
                x1="0"
                :x2="W"
                :y1="y(form[k] ?? 0)"
                :y2="y(form[k] ?? 0)"
                stroke="var(--warn)"
                stroke-width="2"
                vector-effect="non-scaling-stroke" />
              <rect
                x="0"
                :width="W"
                :y="y(form[k] ?? 0) - 12"
                height="24"
                fill="transparent"
                class="grab"
                :data-grab="k"
                @pointerdown.prevent="grab($event, k)" />
            </g>
          </template>
        </svg>
        <div class="between small-text soft">
          <span>{{ dayText(from, hub.zone) }}</span><span>now</span>
        </div>
      </template>
      <p v-if="(past && (limited || trial)) || kind.formula" class="mb-0" role="status">
        <template v-if="trial"
          ><strong>{{
            trial.count === 0
              ? 'It would not have come'
              : trial.count === 1
                ? 'It would have come once'
                : `It would have come ${trial.count} times`
          }}</strong>
          in the last month<template v-if="trial.count"
            >, for {{ length(trial.active_ms) }} in all, {{ length(trial.longest_ms) }} at the longest</template
          >.</template
        ><span v-else class="warn-text">{{ trouble }}</span>
      </p>
      <p v-else-if="signal" class="soft small-text mb-0">An alert of this kind cannot be tried on the past; its first days will tell.</p>
      <div class="fields">
        <label v-if="kind.band" class="short"
          ><span>Dead band {{ unit }}</span
          ><input v-model.number="form.band" class="form-control" type="number" min="0" :step="step"
        /></label>
        <label class="short"
          ><span>If it lasts, min</span><input v-model="after" class="form-control" type="number" min="0" step="any"
        /></label>
        <label class="short"
          ><span>Over after, min</span><input v-model="settle" class="form-control" type="number" min="0" step="any"
        /></label>
        <label class="short"
          ><span>Then rests, min</span><input v-model="rest" class="form-control" type="number" min="0" step="any"
        /></label>
        <label class="short"><span>Only from</span><input v-model="form.from" class="form-control" type="time" /></label>
        <label class="short"><span>to</span><input v-model="form.to" class="form-control" type="time" /></label>
        <label v-if="kind.early" class="short"
          ><span>“Getting there” at</span><input v-model="form.early" class="form-control" type="number" :step="step"
        /></label>
      </div>
      <div class="fields">
        <label><span>Name</span><input v-model="form.name" class="form-control" maxlength="80" :placeholder="proposed" /></label>
        <label
          ><span>How much it matters</span
          ><select v-model="form.severity" class="form-select">
            <option value="info">info</option>
            <option value="warning">warning</option>
            <option value="critical">critical</option>
          </select></label
        >
        <label class="wide"
          ><span>What to do</span
          ><input v-model="form.text" class="form-control" maxlength="500" placeholder="Open the vent, look at the fan."
        /></label>
        <label class="check"
          ><input v-model="form.latch" type="checkbox" class="form-check-input" /> it stays until somebody clears it</label
        >
      </div>
      <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
      <div class="d-flex gap-2">
        <button class="btn btn-primary" :disabled="busy">{{ changing ? 'Save' : 'Tell me' }}</button><RouterLink
          class="btn btn-outline-secondary"
          :to="{ name: 'alerts' }"
          >Not now</RouterLink
        >
      </div>
    </form>
  </main>
</template>

<style scoped>
.narrow {
  max-width: 900px;
}
.past {
  width: 100%;
  height: 220px;
  background: var(--paper);
  border-radius: 8px;
  touch-action: none;
}
.hit {
  fill: var(--warn);
  fill-opacity: 0.22;
}
.grab {
  cursor: ns-resize;
}
.check {
  display: flex;
  gap: 8px;
  align-items: center;
}
.wide {
  flex: 1 1 100%;
}
</style>
