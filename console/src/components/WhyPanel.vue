<script setup lang="ts">
// Why a control is what it is: the chain of reasons, what it would be otherwise, what comes next; and by hand for a time.
import { useIntervalFn } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { api, ask, sentence, type Control, type Why } from '../api'
import { controlState } from '../format'
import { useHub } from '../hub'
import { Drawer } from '../once'

const props = defineProps<{ control: Control }>()
const open = defineModel<boolean>({ required: true })
const hub = useHub()
const why = ref<Why | null>(null)
const failed = ref('')
const state = computed(() => controlState(props.control, hub.now))
async function load() {
  try {
    why.value = await ask(api.GET('/controls/{id}/why', { params: { path: { id: props.control.config.id } } }))
    failed.value = ''
  } catch (e) {
    failed.value = sentence(e)
  }
}
const { pause, resume } = useIntervalFn(load, 5000, { immediate: false })
watch(
  open,
  (is) => {
    pause()
    if (is) {
      void load()
      resume()
    }
  },
  { immediate: true },
)
watch(
  () => props.control.state.rev,
  () => open.value && void load(),
)

const spans = [
  { text: '20 min', ms: 1200_000 },
  { text: '1 h', ms: 3600_000 },
  { text: '2 h', ms: 7200_000 },
  { text: '8 h', ms: 8 * 3600_000 },
]
const byHand = computed(
  () => props.control.state.mode === 'manual' && props.control.state.want !== undefined && hub.maySwitch(props.control),
)
async function forTime(ms: number) {
  try {
    await hub.tell(props.control.config.id, props.control.state.want!, ms)
    await load()
  } catch (e) {
    failed.value = sentence(e)
  }
}
async function reset() {
  try {
    hub.takeControl(await ask(api.POST('/controls/{id}/reset', { params: { path: { id: props.control.config.id } } })))
    await load()
  } catch (e) {
    failed.value = sentence(e)
  }
}
</script>

<template>
  <Drawer v-model="open" placement="end" :title="control.config.name" class="why" lazy>
    <p>
      <strong :class="{ 'ember-text': state.tone === 'on', 'warn-text': state.tone === 'warn' }">{{ state.words }}</strong>
    </p>
    <p v-if="failed" class="note bad" role="alert">{{ failed }}</p>
    <template v-if="why">
      <p class="lead-line">{{ why.reason.charAt(0).toUpperCase() + why.reason.slice(1) }}.</p>
      <ol v-if="why.lines.length" class="lines">
        <li v-for="line in why.lines" :key="line">{{ line }}</li>
      </ol>
      <p v-if="why.else"><b>Otherwise.</b> {{ why.else }}</p>
      <p v-for="line in why.next" :key="line"><b>Next.</b> {{ line }}</p>
    </template>
    <div v-if="control.state.latched?.length" class="mb-3">
      <button class="btn btn-outline-secondary" type="button" @click="reset">Reset {{ control.state.latched.join(', ') }}</button>
    </div>
    <div v-if="byHand" class="spans">
      <span class="soft small-text">By hand for</span>
      <button v-for="s in spans" :key="s.text" type="button" class="btn btn-outline-secondary btn-sm" @click="forTime(s.ms)">
        {{ s.text }}
      </button>
    </div>
    <p class="small-text mt-3">
      <RouterLink :to="{ name: 'charts', query: { s: control.config.id + '.is' } }">History</RouterLink>
      <template v-if="hub.owner">
        · <RouterLink :to="{ name: 'control', hash: '#' + control.config.id }">Change what the hub decides</RouterLink></template
      >
    </p>
  </Drawer>
</template>

<style scoped>
.lead-line {
  font-size: 1rem;
}
.lines {
  padding-left: 1.2em;
  display: grid;
  gap: 6px;
  color: var(--soft);
  font-size: 0.875rem;
  overflow-wrap: anywhere;
}
.spans {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
}
</style>
