<script setup lang="ts">
// What a preset or a rule does, one line each.
import { computed } from 'vue'
import type { Action } from '../../api'
import { useHub } from '../../hub'
import SpanField from './SpanField.vue'

const props = defineProps<{ preset?: boolean }>()
const model = defineModel<Action[]>({ required: true })
const hub = useHub()
const kinds = computed(() => [
  { value: 'control', text: 'set a control' },
  { value: 'auto', text: 'put a control in auto' },
  { value: 'pulse', text: 'pulse a control' },
  { value: 'setting', text: 'change a setting' },
  ...(props.preset
    ? []
    : [
        { value: 'preset', text: 'apply a preset' },
        { value: 'message', text: 'tell people' },
        { value: 'note', text: 'keep a note' },
      ]),
])
const controls = computed(() =>
  Object.values(hub.controls)
    .filter((c) => !c.state.moved_by)
    .sort((a, b) => a.config.id.localeCompare(b.config.id)),
)
const name = (id: string) => {
  const c = hub.controls[id]
  return `${hub.places.find((p) => p.id === c?.state.place)?.name ?? ''}: ${c?.config.name ?? id}`
}
function put(i: number, part: Partial<Action>) {
  model.value = model.value.map((a, j) => {
    if (j !== i) return a
    const next: Record<string, unknown> = { ...a, ...part }
    for (const [k, v] of Object.entries(next)) if (v === undefined || v === '') delete next[k]
    return next as Action
  })
}
function options(kind: string) {
  if (kind === 'setting')
    return Object.values(hub.settings).map((s) => ({ id: s.config.id, text: s.config.name + ' (' + s.config.id + ')' }))
  if (kind === 'preset') return hub.presets.map((p) => ({ id: p.config.id, text: p.config.name }))
  return controls.value
    .filter((c) => (kind === 'auto' ? c.state.mode : kind === 'pulse' ? c.config.momentary : !c.config.momentary))
    .map((c) => ({ id: c.config.id, text: name(c.config.id) }))
}
function values(a: Action) {
  const c = hub.controls[a.id ?? '']
  if (a.kind !== 'control' || !c || c.config.kind === 'level') return null
  return c.config.kind === 'switch' ? ['off', 'on'] : (c.state.words ?? [])
}
</script>

<template>
  <div class="stack tight">
    <div v-for="(a, i) in model" :key="i" class="fields">
      <label
        ><span class="soft small-text">Do</span
        ><select
          class="form-select form-select-sm"
          :value="a.kind"
          :aria-label="`Action ${i + 1}`"
          @change="model = model.map((x, j) => (j === i ? { kind: ($event.target as HTMLSelectElement).value as Action['kind'] } : x))">
          <option v-for="k in kinds" :key="k.value" :value="k.value">{{ k.text }}</option>
        </select></label
      >
      <label v-if="a.kind !== 'message' && a.kind !== 'note'"
        ><span class="soft small-text">Which</span
        ><select
          class="form-select form-select-sm"
          :value="a.id ?? ''"
          required
          @change="put(i, { id: ($event.target as HTMLSelectElement).value })">
          <option value="" disabled>choose</option>
          <option v-for="o in options(a.kind)" :key="o.id" :value="o.id">{{ o.text }}</option>
        </select></label
      >
      <template v-if="a.kind === 'control' || a.kind === 'setting'">
        <label v-if="values(a)" class="short"
          ><span class="soft small-text">To</span
          ><select
            class="form-select form-select-sm"
            :value="a.to ?? 0"
            @change="put(i, { to: Number(($event.target as HTMLSelectElement).value) })">
            <option v-for="(o, k) in values(a)" :key="o" :value="k">{{ o }}</option>
          </select></label
        >
        <label v-else class="short"
          ><span class="soft small-text">To</span
          ><input
            class="form-control form-control-sm"
            type="number"
            step="any"
            :value="a.to ?? 0"
            @input="put(i, { to: Number(($event.target as HTMLInputElement).value) })"
        /></label>
      </template>
      <SpanField
        v-if="a.kind === 'control'"
        label="For"
        hint="no end"
        :model-value="a.for_ms"
        @update:model-value="(v) => put(i, { for_ms: v })" />
      <label v-if="a.kind === 'message' || a.kind === 'note'"
        ><span class="soft small-text">Words; {kiln.chamber} stands for its value</span
        ><input
          class="form-control form-control-sm"
          required
          maxlength="500"
          :value="a.text"
          @input="put(i, { text: ($event.target as HTMLInputElement).value })"
      /></label>
      <button type="button" class="btn btn-outline-secondary btn-sm" @click="model = model.filter((_, j) => j !== i)">Remove</button>
    </div>
    <div>
      <button type="button" class="btn btn-outline-secondary btn-sm" @click="model = [...model, { kind: 'control' }]">
        {{ model.length ? 'One more' : 'What it does' }}
      </button>
    </div>
  </div>
</template>
