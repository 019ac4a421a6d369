<script setup lang="ts">
// A formula with completion, its value now, and what is wrong where.
import { computed, onMounted, ref, watch } from 'vue'
import { api, ask, type Checked, type FormulaWord } from '../../api'
import { unitSign } from '../../format'
import { formulaWords } from './words'

const props = defineProps<{ label: string; placeholder?: string; quantity?: boolean }>()
const model = defineModel<string | undefined>({ required: true })
const checked = ref<Checked | null>(null)
const words = ref<FormulaWord[]>([])
const area = ref<HTMLInputElement | null>(null)
const at = ref(0)
const focus = ref(false)
const pick = ref(0)
const id = `f${Math.random().toString(36).slice(2)}`
onMounted(async () => (words.value = await formulaWords().catch(() => [])))

let later = 0
watch(
  model,
  (text) => {
    window.clearTimeout(later)
    if (!text?.trim()) {
      checked.value = null
      return
    }
    later = window.setTimeout(async () => {
      try {
        checked.value = await ask(api.POST('/formulas/check', { body: { text } }))
      } catch {
        /* the form says it when it is sent */
      }
    }, 250)
  },
  { immediate: true },
)

// The word that is being written, and what it may become.
const stem = computed(() => /[a-z][a-z0-9_.]*$/.exec((model.value ?? '').slice(0, at.value))?.[0] ?? '')
const offers = computed(() => {
  if (!focus.value || stem.value.length < 2) return []
  return words.value
    .filter((w) => (w.text.includes(stem.value) || w.says.toLowerCase().includes(stem.value)) && w.text !== stem.value)
    .slice(0, 7)
})
watch(offers, () => (pick.value = 0))
function take(w: FormulaWord) {
  const text = model.value ?? ''
  model.value = text.slice(0, at.value - stem.value.length) + w.text + text.slice(at.value)
  area.value?.focus()
}
function key(e: KeyboardEvent) {
  if (!offers.value.length) return
  if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
    e.preventDefault()
    pick.value = (pick.value + (e.key === 'ArrowDown' ? 1 : -1) + offers.value.length) % offers.value.length
  } else if (e.key === 'Tab' || e.key === 'Enter') {
    e.preventDefault()
    take(offers.value[pick.value]!)
  } else if (e.key === 'Escape') focus.value = false
}
const wrongKind = computed(() => {
  const c = checked.value
  if (!c?.ok) return ''
  if (props.quantity && c.kind !== 'number') return 'a number is needed here'
  if (!props.quantity && c.kind !== 'onoff') return 'this must be true or false, as in … > 20'
  return ''
})
const note = (e: Event) => {
  at.value = (e.target as HTMLInputElement).selectionStart ?? 0
  focus.value = true
}
</script>

<template>
  <label class="formula" :for="id">
    <span class="soft small-text">{{ label }}</span>
    <input
      :id="id"
      ref="area"
      v-model="model"
      class="form-control form-control-sm mono"
      autocomplete="off"
      spellcheck="false"
      :placeholder="placeholder ?? 'drying_room.humidity > 60'"
      role="combobox"
      :aria-expanded="offers.length > 0"
      :aria-controls="`${id}-list`"
      @input="note"
      @click="note"
      @keyup="note"
      @keydown="key"
      @blur="focus = false" />
    <ul v-if="offers.length" :id="`${id}-list`" class="offers" role="listbox">
      <li
        v-for="(w, i) in offers"
        :key="w.text"
        role="option"
        :aria-selected="i === pick"
        :class="{ picked: i === pick }"
        @mousedown.prevent="take(w)">
        <code>{{ w.text }}</code> <span class="soft small-text">{{ w.says }}</span>
      </li>
    </ul>
    <span v-if="checked && !checked.ok" class="small-text warn-text" role="alert"
      >{{ checked.reason }}<br /><code
        >{{ (model ?? '').slice(0, checked.from) }}<mark>{{ (model ?? '').slice(checked.from, checked.to) || ' ' }}</mark
        >{{ (model ?? '').slice(checked.to) }}</code
      ></span
    >
    <span v-else-if="wrongKind" class="small-text warn-text">{{ wrongKind }}</span>
    <span v-else-if="checked" class="small-text soft">now {{ checked.value }} {{ unitSign(checked.unit ?? '') }}</span>
  </label>
</template>

<style scoped>
.formula {
  position: relative;
  flex: 1 1 260px;
  min-width: 0;
  display: block;
}
.formula > span {
  display: block;
}
.offers {
  position: absolute;
  z-index: 9;
  left: 0;
  right: 0;
  background: var(--sheet);
  border: 1px solid var(--line);
  border-radius: 10px;
  list-style: none;
  margin: 2px 0 0;
  padding: 4px;
  max-height: 260px;
  overflow: auto;
  box-shadow: 0 6px 24px rgb(0 0 0 / 12%);
}
.offers li {
  padding: 6px 8px;
  border-radius: 8px;
  cursor: pointer;
}
.offers .picked {
  background: var(--paper);
}
mark {
  background: var(--warn-soft);
  color: inherit;
  border-bottom: 2px solid var(--warn);
  padding: 0;
}
</style>
