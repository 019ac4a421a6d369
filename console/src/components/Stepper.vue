<script setup lang="ts">
// A setting with − and +, and a field when its value is tapped. Locked ones are pale and say why.
import { computed, nextTick, ref } from 'vue'
import { sentence, type Setting } from '../api'
import { useHub } from '../hub'
import { ownNumber, shownNumber, shownUnit, shownValue } from '../units'

const props = defineProps<{ setting: Setting; label?: boolean }>()
const hub = useHub()
const failed = ref('')
const sending = ref<number | null>(null)
const typing = ref(false)
const text = ref('')
const input = ref<HTMLInputElement | null>(null)
const c = computed(() => props.setting.config)
const locked = computed(() => {
  if (hub.link !== 'live') return 'No connection to the hub.'
  if (!hub.maySet(props.setting)) return 'You may look at this, not change it; an owner can open it to you.'
  return props.setting.state.locked ?? ''
})
const step = computed(() => {
  if (c.value.kind === 'time') return 15
  if (c.value.kind === 'duration') return 60
  return c.value.step || 1
})
const shown = computed(() => {
  const v = sending.value ?? props.setting.state.value
  if (c.value.kind === 'number')
    return `${shownValue(v, c.value.unit ?? '', c.value.decimals ?? 0)} ${shownUnit(c.value.unit ?? '')}`.trim()
  if (c.value.kind === 'time') return `${String(Math.floor(v / 60)).padStart(2, '0')}:${String(v % 60).padStart(2, '0')}`
  return sending.value === null ? props.setting.state.text : (c.value.options?.[v] ?? String(v))
})

async function send(value: string | number) {
  failed.value = ''
  try {
    await hub.set(c.value.id, value)
  } catch (e) {
    failed.value = sentence(e)
  } finally {
    sending.value = null
  }
}

let before = ''
let later = 0
// Several taps in a row are one change.
function by(sign: number) {
  if (locked.value) {
    failed.value = locked.value
    return
  }
  const k = c.value
  const now = sending.value ?? props.setting.state.value
  if (k.kind === 'onoff' || k.kind === 'choice') {
    const n = k.kind === 'onoff' ? 2 : (k.options?.length ?? 1)
    sending.value = (now + sign + n) % n
  } else {
    const low = k.kind === 'number' ? (k.min ?? 0) : 0
    const high = k.kind === 'number' ? (k.max ?? 0) : k.kind === 'time' ? 1439 : k.max || 604800
    sending.value = Math.min(high, Math.max(low, Math.round((now + sign * step.value) / step.value) * step.value))
  }
  window.clearTimeout(later)
  later = window.setTimeout(() => void send(word(sending.value ?? now)), 500)
}

function word(v: number): string | number {
  const k = c.value
  if (k.kind === 'time') return `${String(Math.floor(v / 60)).padStart(2, '0')}:${String(v % 60).padStart(2, '0')}`
  if (k.kind === 'duration') return `${v}s`
  if (k.kind === 'choice') return k.options?.[v] ?? ''
  if (k.kind === 'onoff') return v ? 'on' : 'off'
  return Number(v.toFixed(6))
}

async function type() {
  if (locked.value) {
    failed.value = locked.value
    return
  }
  if (c.value.kind === 'onoff' || c.value.kind === 'choice') return by(1)
  text.value =
    c.value.kind === 'number'
      ? String(Number(shownNumber(props.setting.state.value, c.value.unit ?? '').toFixed(3)))
      : props.setting.state.text
  before = text.value
  typing.value = true
  await nextTick()
  input.value?.select()
}

function typed() {
  if (!typing.value) return
  typing.value = false
  const said = text.value.trim()
  if (!said || said === before) return
  // A bare number is in the unit that stands beside it; with a unit of its own the hub reads it.
  const n = Number(said.replace(',', '.'))
  void send(c.value.kind === 'number' && !Number.isNaN(n) ? Number(ownNumber(n, c.value.unit ?? '').toFixed(6)) : said)
}
</script>

<template>
  <div class="setting" :data-setting="c.id">
    <span v-if="label" class="soft small-text">{{ c.name }}</span>
    <div class="stepper" :class="{ locked, way: sending !== null }" role="group" :aria-label="c.name">
      <button type="button" :aria-label="`${c.name} down`" :aria-disabled="!!locked" @click="by(-1)">−</button>
      <input
        v-if="typing"
        ref="input"
        v-model="text"
        :aria-label="c.name"
        @keydown.enter="typed"
        @keydown.esc="typing = false"
        @blur="typed" />
      <button v-else type="button" class="value" :aria-label="`${c.name}, ${shown}`" @click="type">{{ shown }}</button>
      <button type="button" :aria-label="`${c.name} up`" :aria-disabled="!!locked" @click="by(1)">+</button>
    </div>
    <p v-if="failed" class="failed small-text" role="alert">{{ failed }}</p>
  </div>
</template>

<style scoped>
.stepper {
  display: inline-flex;
  border: 1px solid var(--line);
  border-radius: 10px;
  overflow: hidden;
  background: var(--sheet);
}
.stepper button {
  border: 0;
  background: none;
  color: var(--soft);
  min-width: 36px;
  min-height: 38px;
  font-size: 1.05rem;
}
.stepper .value {
  color: var(--ink);
  font-weight: 620;
  font-size: 0.9375rem;
  min-width: 68px;
  padding: 0 4px;
}
.stepper.way .value {
  color: var(--soft);
  font-style: italic;
}
.stepper input {
  width: 76px;
  border: 0;
  background: none;
  color: var(--ink);
  text-align: center;
  font-weight: 620;
}
.stepper.locked {
  border-style: dashed;
}
.stepper.locked .value {
  color: var(--soft);
  font-weight: 500;
}
.setting > span {
  display: block;
}
.failed {
  color: var(--warn);
  margin: 6px 0 0;
  max-width: 240px;
}
@media (max-width: 820px) {
  .stepper button {
    min-width: 44px;
    min-height: 44px;
  }
}
</style>
