<script setup lang="ts">
// What the hub decides of one control: a card that reads like a sentence, and a form behind it.
import { computed, reactive, ref, watch } from 'vue'
import { api, ask, capital, type Automation, type Control, type Demand, type Interlock, type Permit, type WouldBe } from '../../api'
import { controlState } from '../../format'
import { useSend } from '../../form'
import { useHub } from '../../hub'
import Position from '../Position.vue'
import DemandFields from './DemandFields.vue'
import FormulaBox from './FormulaBox.vue'
import SpanField from './SpanField.vue'

const props = defineProps<{ control: Control; open?: boolean }>()
const hub = useHub()
const config = ref<Automation | null>(null)
const version = ref('')
const editing = ref(false)
const opening = ref(false) // as soon as it is known what is in force
let base = '' // the version that the draft was made from
const form = reactive<{ a: Automation }>({ a: { control: '' } })
const remarks = ref<string[]>([])
const tried = ref<WouldBe | null>(null)
const values = reactive<Record<string, string>>({})
const { failed, saved, send, busy } = useSend()
const state = computed(() => controlState(props.control, hub.now))
const lines = ref<string[]>([])

async function load() {
  const v = await ask(api.GET('/controls/{id}/automation', { params: { path: { id: props.control.config.id } } }))
  config.value = v.config
  lines.value = v.state.says.map((line, i) => (i ? line : capital(line)))
  version.value = v.version
  if (opening.value) edit()
}
watch(
  () => [props.control.config.id, props.control.version],
  () => void send(load).then(() => (saved.value = false)),
  { immediate: true },
)
watch(
  () => props.open,
  (is) => is && edit(),
  { immediate: true },
)

// A form that does not hold what is in force would erase it.
function edit() {
  if (!config.value) {
    opening.value = true
    return
  }
  opening.value = false
  base = version.value
  form.a = JSON.parse(JSON.stringify(config.value))
  tried.value = null
  editing.value = true
}
// Empty parts are left out, so that an empty form means no automation.
function clean(a: Automation): Automation {
  const out: Record<string, unknown> = { ...a }
  for (const k of ['demands', 'permits', 'interlocks'] as const) if (!a[k]?.length) delete out[k]
  const limits = Object.fromEntries(Object.entries(a.limits ?? {}).filter(([, v]) => v))
  if (Object.keys(limits).length) out.limits = limits
  else delete out.limits
  if (!a.proof?.when) delete out.proof
  if (!a.travel) delete out.travel
  for (const k of Object.keys(out)) if (out[k] === undefined || out[k] === 0) delete out[k]
  return { ...out, control: props.control.config.id } as Automation
}
const save = () =>
  send(async () => {
    const v = await ask(
      api.PUT('/controls/{id}/automation', {
        params: { path: { id: props.control.config.id }, header: { 'If-Match': base } },
        body: clean(form.a),
      }),
    )
    config.value = v.config
    lines.value = v.state.says.map((line, i) => (i ? line : capital(line)))
    version.value = v.version
    remarks.value = v.state.remarks
    editing.value = false
  })
async function test() {
  await send(async () => {
    const given = Object.fromEntries(
      Object.entries(values)
        .filter(([, v]) => v !== '')
        .map(([k, v]) => [k, v === 'on' ? true : v === 'off' ? false : Number.isNaN(Number(v)) ? v : Number(v)]),
    )
    tried.value = await ask(
      api.POST('/controls/{id}/automation/try', {
        params: { path: { id: props.control.config.id } },
        body: { automation: clean(form.a), values: given },
      }),
    )
  })
  saved.value = false
}
const demands = computed(() => form.a.demands ?? [])
const setDemand = (i: number, d: Demand) => (form.a.demands = demands.value.map((x, j) => (j === i ? d : x)))
const firstDemand = computed<Demand>(() => {
  const s = Object.values(hub.signals).find((x) => x.config.device === props.control.config.device && x.config.kind === 'number')
  return { kind: 'hold_above', of: s?.config.id ?? '', target: '', band: 0.5 }
})
const put = <K extends 'permits' | 'interlocks'>(k: K, i: number, part: Partial<Interlock & Permit>) => {
  const list = [...((form.a[k] ?? []) as (Interlock & Permit)[])]
  list[i] = { ...list[i]!, ...part }
  form.a[k] = list as Automation[K]
}
const limit = (k: keyof NonNullable<Automation['limits']>, v: number | boolean | undefined) =>
  (form.a.limits = { ...form.a.limits, [k]: v })
const count = (e: Event) => Number((e.target as HTMLInputElement).value) || undefined
const ticked = (e: Event) => (e.target as HTMLInputElement).checked || undefined
const mover = computed(() => props.control.config.kind === 'mover')
const switches = computed(() => Object.values(hub.controls).filter((c) => c.config.kind === 'switch'))
</script>

<template>
  <section :id="control.config.id" class="sheet card-of" :data-automation="control.config.id">
    <div class="between">
      <h2>
        {{ control.config.name }} <span class="state small-text" :class="state.tone">{{ state.words }}</span>
      </h2>
      <Position :control="control" />
    </div>
    <p v-if="lines.length" class="sentence">
      <template v-for="(line, i) in lines" :key="line"
        ><span>{{ line }}</span
        >{{ i < lines.length - 1 ? '; ' : '.' }}</template
      >
    </p>
    <p v-else class="soft sentence">
      {{
        control.state.moved_by
          ? `Moved by ${hub.controls[control.state.moved_by]?.config.name}.`
          : 'The hub decides nothing here; it is as people switch it.'
      }}
    </p>
    <p v-for="r in remarks" :key="r" class="small-text warn-text">{{ r }}.</p>
    <p v-if="failed" class="note bad small-text" role="alert">
      {{ failed }} <button v-if="!config" type="button" class="btn btn-link btn-sm" @click="send(load)">Retry</button>
    </p>
    <button v-if="hub.owner && !editing && config" type="button" class="btn btn-outline-secondary btn-sm" @click="edit">
      {{ lines.length ? 'Change' : 'Let the hub decide' }}
    </button>
    <form v-if="editing" class="stack tight" @submit.prevent="save">
      <template v-if="!control.state.moved_by && !control.config.momentary">
        <DemandFields
          v-for="(d, i) in demands"
          :key="i"
          :n="i + 1"
          :control="control"
          :model-value="d"
          @update:model-value="(v) => setDemand(i, v)"
          @remove="form.a.demands = demands.filter((_, j) => j !== i)" />
        <div>
          <button type="button" class="btn btn-outline-secondary btn-sm" @click="form.a.demands = [...demands, firstDemand]">
            {{ demands.length ? 'One more reason to run' : 'A reason to run' }}
          </button>
        </div>
        <fieldset v-for="(p, i) in form.a.permits ?? []" :key="'p' + i" class="inset fields">
          <label class="short"
            ><span class="soft small-text">Only if</span
            ><input
              class="form-control form-control-sm"
              placeholder="dry weather"
              :value="p.name"
              @input="put('permits', i, { name: ($event.target as HTMLInputElement).value })"
          /></label>
          <FormulaBox label="Condition" :model-value="p.when" @update:model-value="(v) => put('permits', i, { when: v ?? '' })" />
          <button
            type="button"
            class="btn btn-outline-secondary btn-sm"
            @click="form.a.permits = form.a.permits?.filter((_, j) => j !== i)">
            Remove
          </button>
        </fieldset>
      </template>
      <fieldset v-for="(l, i) in form.a.interlocks ?? []" :key="'l' + i" class="inset fields">
        <label class="short"
          ><span class="soft small-text">Interlock</span
          ><input
            class="form-control form-control-sm"
            placeholder="gas"
            required
            :value="l.name"
            @input="put('interlocks', i, { name: ($event.target as HTMLInputElement).value })"
        /></label>
        <FormulaBox label="Holds when" :model-value="l.when" @update:model-value="(v) => put('interlocks', i, { when: v ?? '' })" />
        <FormulaBox
          label="Until (empty: when that is over)"
          :model-value="l.until"
          @update:model-value="(v) => put('interlocks', i, { until: v || undefined })" />
        <SpanField
          label="Must be over for"
          :model-value="l.settle_ms"
          @update:model-value="(v) => put('interlocks', i, { settle_ms: v })" />
        <label class="short forces"
          ><span class="soft small-text">Forces</span
          ><select
            class="form-select form-select-sm"
            :value="l.to === undefined ? '' : String(l.to)"
            @change="
              put('interlocks', i, {
                to: ($event.target as HTMLSelectElement).value === '' ? undefined : Number(($event.target as HTMLSelectElement).value),
              })
            ">
            <option value="">the safe value</option>
            <option :value="control.config.kind === 'level' ? '100' : '1'">{{ control.config.kind === 'level' ? '100 %' : 'on' }}</option>
            <option value="0">off</option>
          </select></label
        >
        <label class="check"
          ><input
            type="checkbox"
            class="form-check-input"
            :checked="l.latch"
            @change="put('interlocks', i, { latch: ($event.target as HTMLInputElement).checked || undefined })" />
          until somebody resets it</label
        >
        <button
          type="button"
          class="btn btn-outline-secondary btn-sm"
          @click="form.a.interlocks = form.a.interlocks?.filter((_, j) => j !== i)">
          Remove
        </button>
      </fieldset>
      <div class="d-flex gap-2 flex-wrap">
        <button
          v-if="demands.length"
          type="button"
          class="btn btn-outline-secondary btn-sm"
          @click="form.a.permits = [...(form.a.permits ?? []), { when: '' }]">
          Only if …
        </button>
        <button
          type="button"
          class="btn btn-outline-secondary btn-sm"
          @click="form.a.interlocks = [...(form.a.interlocks ?? []), { name: '', when: '' }]">
          An interlock
        </button>
      </div>
      <fieldset v-if="mover" class="inset fields">
        <label v-for="k in ['opens', 'closes', 'pulses'] as const" :key="k"
          ><span class="soft small-text">{{
            { opens: 'Output that opens', closes: 'Output that closes', pulses: 'or one that pulses' }[k]
          }}</span>
          <select
            class="form-select form-select-sm"
            :value="form.a.travel?.[k] ?? ''"
            @change="
              form.a.travel = { ...(form.a.travel ?? { travel_ms: 20000 }), [k]: ($event.target as HTMLSelectElement).value || undefined }
            ">
            <option value="">none</option>
            <option v-for="c in switches" :key="c.config.id" :value="c.config.id">{{ c.config.name }}</option>
          </select></label
        >
        <SpanField
          label="From end to end"
          :model-value="form.a.travel?.travel_ms"
          @update:model-value="(v) => (form.a.travel = { ...form.a.travel, travel_ms: v ?? 0 })" />
        <SpanField
          label="Pause before it turns round"
          hint="1 s"
          :model-value="form.a.travel?.pause_ms"
          @update:model-value="(v) => (form.a.travel = { ...(form.a.travel ?? { travel_ms: 20000 }), pause_ms: v })" />
        <label class="check"
          ><input
            type="checkbox"
            class="form-check-input"
            :checked="form.a.travel?.go_on"
            @change="form.a.travel = { ...(form.a.travel ?? { travel_ms: 20000 }), go_on: ticked($event) }" />
          goes on by itself when an interlock ends</label
        >
        <FormulaBox
          label="It is open when"
          :model-value="form.a.travel?.is_open"
          @update:model-value="(v) => (form.a.travel = { ...(form.a.travel ?? { travel_ms: 20000 }), is_open: v || undefined })" />
        <FormulaBox
          label="It is shut when"
          :model-value="form.a.travel?.is_closed"
          @update:model-value="(v) => (form.a.travel = { ...(form.a.travel ?? { travel_ms: 20000 }), is_closed: v || undefined })" />
      </fieldset>
      <details v-if="!control.config.momentary">
        <summary>Run limits, proof, by hand</summary>
        <div class="fields">
          <SpanField
            v-if="!mover"
            label="Longest on"
            :model-value="form.a.limits?.longest_on_ms"
            @update:model-value="(v) => limit('longest_on_ms', v)" />
          <SpanField
            v-if="!mover"
            label="then a rest of"
            :model-value="form.a.limits?.rest_ms"
            @update:model-value="(v) => limit('rest_ms', v)" />
          <SpanField
            v-if="!mover"
            label="Shortest on"
            :model-value="form.a.limits?.shortest_on_ms"
            @update:model-value="(v) => limit('shortest_on_ms', v)" />
          <SpanField
            v-if="!mover"
            label="Shortest off"
            :model-value="form.a.limits?.shortest_off_ms"
            @update:model-value="(v) => limit('shortest_off_ms', v)" />
          <label v-if="!mover" class="short"
            ><span class="soft small-text">Starts an hour, at most</span
            ><input
              class="form-control form-control-sm"
              type="number"
              min="1"
              max="60"
              placeholder="any"
              :value="form.a.limits?.starts_an_hour"
              @input="limit('starts_an_hour', count($event))"
          /></label>
          <label class="short"
            ><span class="soft small-text">Changes a minute by the hub</span
            ><input
              class="form-control form-control-sm"
              type="number"
              min="1"
              max="60"
              placeholder="6"
              :value="form.a.changes"
              @input="form.a.changes = count($event)"
          /></label>
          <SpanField
            label="What was switched at the board lasts"
            hint="4 h"
            :model-value="form.a.follow_ms"
            @update:model-value="(v) => (form.a.follow_ms = v)" />
          <SpanField label="By hand lasts" hint="no end" :model-value="form.a.hand_ms" @update:model-value="(v) => (form.a.hand_ms = v)" />
          <SpanField
            label="Readings must be back for"
            hint="30 s"
            :model-value="form.a.settle_ms"
            @update:model-value="(v) => (form.a.settle_ms = v)" />
          <label v-if="!mover" class="check"
            ><input
              type="checkbox"
              class="form-check-input"
              :checked="form.a.limits?.restart_hurts"
              @change="limit('restart_hurts', ticked($event))" />
            restarting hurts it: an interlock waits for that too</label
          >
        </div>
        <div class="fields proof">
          <FormulaBox
            label="Proof: the effect that must show"
            placeholder="shelf_fan.power > 55"
            :model-value="form.a.proof?.when"
            @update:model-value="(v) => (form.a.proof = { within_ms: 20000, ...form.a.proof, when: v ?? '' })" />
          <SpanField
            v-if="form.a.proof"
            label="within"
            :model-value="form.a.proof.within_ms"
            @update:model-value="(v) => (form.a.proof = { ...form.a.proof!, within_ms: v ?? 0 })" />
          <label v-if="form.a.proof" class="short"
            ><span class="soft small-text">Retries</span
            ><input
              class="form-control form-control-sm"
              type="number"
              min="0"
              max="10"
              :value="form.a.proof.retries ?? 0"
              @input="form.a.proof = { ...form.a.proof!, retries: Number(($event.target as HTMLInputElement).value) }"
          /></label>
          <label v-if="form.a.proof" class="check"
            ><input
              type="checkbox"
              class="form-check-input"
              :checked="form.a.proof.switch_off"
              @change="form.a.proof = { ...form.a.proof!, switch_off: ticked($event) }" />
            without it, it is switched off</label
          >
        </div>
      </details>
      <div class="try inset">
        <div class="between">
          <b class="small-text">Try it</b
          ><button type="button" class="btn btn-outline-secondary btn-sm" :disabled="busy" @click="test">What would it be?</button>
        </div>
        <template v-if="tried">
          <p class="mb-1" role="status">
            It would be <strong :class="{ 'ember-text': tried.want !== 'off' && tried.want !== 'nothing' }">{{ tried.want }}</strong>:
            {{ tried.why.reason }}.
          </p>
          <div class="fields">
            <label v-for="(now, id) in tried.uses" :key="id" class="short"
              ><span class="soft small-text">{{ id }}</span
              ><input v-model="values[id]" class="form-control form-control-sm" :placeholder="now" @change="test"
            /></label>
          </div>
        </template>
        <p v-else class="soft small-text mb-0">
          It answers with the values of now; you can then put others in their place. Nothing is switched.
        </p>
      </div>
      <div class="d-flex gap-2 align-items-center">
        <button class="btn btn-primary" :disabled="busy">Save</button
        ><button type="button" class="btn btn-outline-secondary" @click="editing = false">Leave it as it was</button>
      </div>
    </form>
    <span class="small-text soft" role="status">{{ saved && !editing ? 'saved' : '' }}</span>
  </section>
</template>

<style scoped>
.sentence {
  margin: 8px 0;
  max-width: 78ch;
  overflow-wrap: anywhere;
}
.state {
  font-weight: 500;
  color: var(--soft);
}
.state.on {
  color: var(--ember);
}
.state.warn {
  color: var(--warn);
}
.check {
  display: flex !important;
  gap: 8px;
  align-items: center;
}
.forces {
  flex-basis: 170px !important;
}
.proof {
  margin-top: 10px;
}
fieldset.fields {
  border-radius: 0;
}
</style>
