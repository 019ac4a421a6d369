<script setup lang="ts">
// The positions of a switch. Only the board's own report fills a position; what is on its way is shown as such.
import { BModal } from 'bootstrap-vue-next/components/BModal'
import { computed, ref } from 'vue'
import { sentence, type Control } from '../api'
import { useHub } from '../hub'

const props = defineProps<{ control: Control }>()
const hub = useHub()
const busy = ref(false)
const failed = ref('')
const asking = ref(false)

const locked = computed(() => {
  if (!hub.maySwitch(props.control)) return 'Only members may switch this.'
  if (hub.link !== 'live') return 'No connection to the hub.'
  return ''
})
const at = computed(() => (props.control.want === undefined ? props.control.is : props.control.want))

async function send(on: boolean) {
  busy.value = true
  failed.value = ''
  try {
    await hub.flip(props.control.id, on)
  } catch (e) {
    failed.value = sentence(e)
  } finally {
    busy.value = false
  }
}

function tap(on: boolean) {
  if (locked.value) {
    failed.value = locked.value
    return
  }
  if (on && props.control.dangerous) asking.value = true
  else void send(on)
}
</script>

<template>
  <div>
    <div class="position" :class="{ locked }" role="group" :aria-label="control.name">
      <button v-for="on in [true, false]" :key="String(on)" type="button" :class="{ chosen: at === on, way: at === on && control.phase !== 'confirmed' && control.phase !== '' && control.phase !== 'sent' }"
        :aria-pressed="at === on" :aria-disabled="!!locked" :disabled="busy" @click="tap(on)">
        {{ on ? 'On' : 'Off' }}
      </button>
    </div>
    <p v-if="failed" class="failed small-text" role="alert">{{ failed }}</p>
    <BModal v-model="asking" :title="`Switch ${control.name} on?`" ok-title="Switch on" cancel-title="Leave it off" ok-variant="primary"
      cancel-variant="outline-secondary" @ok="send(true)">
      The owner marked this as dangerous. Make sure that nothing and nobody is in the way.
    </BModal>
  </div>
</template>

<style scoped>
.position { display: inline-flex; border: 1px solid var(--line); border-radius: 10px; overflow: hidden; background: var(--sheet); }
.position button { border: 0; background: none; color: var(--soft); padding: 0 18px; min-height: 38px; min-width: 58px; font-weight: 550; }
.position button + button { border-left: 1px solid var(--line); }
.position button.chosen { background: var(--ink); color: var(--sheet); }
.position button.chosen.way { background: repeating-linear-gradient(135deg, var(--soft) 0 6px, var(--ink) 6px 12px); }
.position.locked { opacity: 0.5; }
.position button:focus-visible { outline-offset: -3px; }
.failed { color: var(--warn); margin: 6px 0 0; max-width: 260px; }
@media (max-width: 820px) { .position button { min-height: 44px; min-width: 66px; } }
</style>
