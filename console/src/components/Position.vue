<script setup lang="ts">
// The positions of a control: Auto, On and Off for a switch; Auto and a slider for a level; the words of a choice; open, stop
// and shut for a door. Only the device's own report fills a position; what is on its way is shown as such.
import { computed, onUnmounted, ref } from 'vue'
import { sentence, type Control, type Value } from '../api'
import { useHub } from '../hub'
import { Modal, useOnce } from '../once'

const props = defineProps<{ control: Control }>()
const hub = useHub()
const busy = ref(false)
const failed = ref('')
const asking = ref<Value | null>(null)
const everAsked = useOnce(() => asking.value !== null)
const drag = ref<number | null>(null)

type Spot = { text: string; to: Value | 'auto' }
const spots = computed<Spot[]>(() => {
  const c = props.control
  const auto: Spot[] = c.state.mode ? [{ text: 'Auto', to: 'auto' }] : []
  if (c.config.momentary) return [{ text: 'Pulse', to: true }]
  if (c.config.kind === 'mover') return [...auto, { text: 'Open', to: 'open' }, { text: 'Stop', to: 'stop' }, { text: 'Shut', to: 'close' }]
  if (c.config.kind === 'choice') return [...auto, ...(c.state.words ?? []).map((o) => ({ text: o, to: o }))]
  if (c.config.kind === 'level') return auto
  return [...auto, { text: 'On', to: true }, { text: 'Off', to: false }]
})
const locked = computed(() => {
  const c = props.control
  if (!hub.maySwitch(c)) return hub.wall ? 'This wall only shows it.' : 'You may look at this, not switch it; an owner can open it to you.'
  if (hub.link !== 'live') return 'No connection to the hub.'
  if (c.state.service) return 'Out of service; an owner can put it back.'
  if (c.state.moved_by) return `Moved by ${hub.controls[c.state.moved_by]?.config.name ?? 'a mover'}.`
  return ''
})
const at = computed<Value | 'auto' | undefined>(() => {
  const c = props.control
  if (c.config.momentary) return undefined
  if (c.state.mode === 'auto') return 'auto'
  return c.state.want === undefined ? c.state.is : c.state.want
})
const onTheWay = computed(() => props.control.state.phase === 'pending' || props.control.state.phase === 'unconfirmed')
const level = computed(() =>
  Number(drag.value ?? (onTheWay.value ? props.control.state.want : props.control.state.is) ?? props.control.state.want ?? 0),
)

// For a few seconds what was can be had back. A pulse is over, and a door moves: those are told anew instead.
const undoable = ref<Value | 'auto' | null>(null)
const seconds = 8
let forget = 0
onUnmounted(() => window.clearTimeout(forget))

async function send(to: Value | 'auto') {
  busy.value = true
  failed.value = ''
  const was = at.value
  undoable.value = null
  window.clearTimeout(forget)
  try {
    await (to === 'auto' ? hub.auto(props.control.config.id) : hub.tell(props.control.config.id, to))
    if (was !== undefined && was !== to && !props.control.config.momentary && props.control.config.kind !== 'mover') {
      undoable.value = was
      forget = window.setTimeout(() => (undoable.value = null), seconds * 1000)
    }
  } catch (e) {
    failed.value = sentence(e)
  } finally {
    busy.value = false
    drag.value = null
  }
}

function tap(to: Value | 'auto') {
  if (locked.value) {
    failed.value = locked.value
    drag.value = null
    return
  }
  const c = props.control
  const starts = to !== 'auto' && to !== c.config.safe
  if ((c.config.dangerous && starts) || (c.config.ask && c.state.mode === 'auto' && to !== 'auto')) asking.value = to
  else void send(to)
}
const asked = computed(() => (typeof asking.value === 'boolean' ? (asking.value ? 'on' : 'off') : String(asking.value)))
</script>

<template>
  <div class="whole">
    <div v-if="spots.length" class="position" :class="{ locked, many: spots.length > 4 }" role="group" :aria-label="control.config.name">
      <button
        v-for="s in spots"
        :key="s.text"
        type="button"
        :class="{ chosen: at === s.to, way: at === s.to && s.to !== 'auto' && onTheWay }"
        :aria-pressed="at === s.to"
        :aria-disabled="!!locked"
        :disabled="busy"
        @click="tap(s.to)">
        {{ s.text }}
      </button>
    </div>
    <label v-if="control.config.kind === 'level'" class="level" :class="{ locked }">
      <input
        type="range"
        min="0"
        max="100"
        step="1"
        :value="level"
        :disabled="!!locked || busy"
        :aria-label="`${control.config.name}, per cent`"
        @input="drag = Number(($event.target as HTMLInputElement).value)"
        @change="tap(Number(($event.target as HTMLInputElement).value))" />
      <b>{{ Math.round(level) }} %</b>
    </label>
    <button
      v-if="undoable !== null"
      type="button"
      class="undo small-text"
      :aria-label="`Undo, ${control.config.name}`"
      :disabled="busy"
      @click="tap(undoable!)">
      Undo
    </button>
    <p v-if="failed" class="failed small-text" role="alert">{{ failed }}</p>
    <Modal
      v-if="everAsked"
      :model-value="asking !== null"
      :title="`Switch ${control.config.name} ${asked}?`"
      :ok-title="`Switch ${asked}`"
      :cancel-title="asked === 'on' ? 'Leave it off' : 'Leave it'"
      ok-variant="primary"
      cancel-variant="outline-secondary"
      @update:model-value="
        (v) => {
          if (!v) {
            asking = null
            if (!busy) drag = null
          }
        }
      "
      @ok="send(asking!)">
      {{
        control.config.dangerous
          ? 'The owner marked this as dangerous. Make sure that nothing and nobody is in the way.'
          : 'The hub then no longer decides by itself, until it is back in auto.'
      }}
    </Modal>
  </div>
</template>

<style scoped>
.whole {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 12px;
  align-items: center;
}
.position {
  display: inline-flex;
  border: 1px solid var(--line);
  border-radius: 10px;
  overflow: hidden;
  background: var(--sheet);
}
.position.many {
  flex-wrap: wrap;
}
.position button {
  border: 0;
  background: none;
  color: var(--soft);
  padding: 0 14px;
  min-height: 38px;
  min-width: 48px;
  font-weight: 550;
}
.position button + button {
  border-left: 1px solid var(--line);
}
.position button.chosen {
  background: var(--ink);
  color: var(--sheet);
}
.position button.chosen.way {
  background: repeating-linear-gradient(135deg, var(--soft) 0 6px, var(--ink) 6px 12px);
}
.locked {
  opacity: 0.5;
}
.position button:focus-visible {
  outline-offset: -3px;
}
.level {
  display: flex;
  align-items: center;
  gap: 10px;
  min-height: 38px;
}
.level input {
  width: 150px;
  accent-color: var(--ink);
}
.level b {
  min-width: 5ch;
  text-align: right;
}
.undo {
  border: 0;
  background: none;
  color: var(--ink);
  text-decoration: underline;
  text-underline-offset: 3px;
  min-height: 38px;
  padding: 0 6px;
}
.failed {
  color: var(--warn);
  margin: 6px 0 0;
  max-width: 260px;
}
@media (max-width: 820px) {
  .position button {
    min-height: 44px;
    min-width: 60px;
  }
  .level {
    min-height: 44px;
  }
}
</style>
