<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormCheckbox } from 'bootstrap-vue-next/components/BFormCheckbox'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { computed, reactive, ref, watch } from 'vue'
import { api, ask, keepPart, type Control, type Link, type Source, type Target } from '../api'
import { useSend, words } from '../form'
import SourceEditor from './SourceEditor.vue'
import TargetEditor from './TargetEditor.vue'

const props = defineProps<{ control: Control; link: Link['kind'] }>()
const emit = defineEmits<{ remove: [] }>()
const form = reactive({
  name: '',
  confirm: 5,
  resume: 24,
  dangerous: false,
  answers: true,
  at_device: 'follow' as Control['config']['at_device'],
  guests: 'none' as Control['config']['guests'],
  kind: 'switch' as Control['config']['kind'],
  options: '',
  lowest: '',
  safe: 'off',
  ask: false,
  pulse: '',
  times: 1,
  gap: 1,
  service: '' as '' | 'silent' | 'safe',
})
const source = ref<Source>({})
const target = ref<Target>({})
const open = ref(false)
const more = ref(false)
const { failed, saved, send } = useSend()
const key = () => {
  const c = props.control
  return JSON.stringify([
    c.config.name,
    c.config.confirm_after_ms,
    c.config.resume_within_ms,
    c.config.dangerous,
    c.config.answers,
    c.config.at_device,
    c.config.guests,
    c.config.source,
    c.config.target,
    c.config.kind,
    c.state.words,
    c.config.lowest,
    c.config.momentary,
    c.config.ask,
    c.config.safe,
    c.state.service,
  ])
}
watch(
  key,
  () => {
    const c = props.control
    Object.assign(form, {
      name: c.config.name,
      confirm: c.config.confirm_after_ms / 1000,
      resume: c.config.resume_within_ms / 3600_000,
      dangerous: c.config.dangerous,
      answers: c.config.answers,
      at_device: c.config.at_device,
      guests: c.config.guests,
      kind: c.config.kind,
      options: c.config.kind === 'choice' ? (c.state.words ?? []).join(', ') : '',
      lowest: c.config.lowest ?? '',
      safe: c.config.safe === true ? 'on' : c.config.safe === false ? 'off' : String(c.config.safe),
      ask: c.config.ask,
      pulse: c.config.momentary ? String(c.config.momentary.for_ms / 1000) : '',
      times: c.config.momentary?.times ?? 1,
      gap: (c.config.momentary?.gap_ms ?? 1000) / 1000,
      service: c.state.service ?? '',
    })
    source.value = { ...c.config.source }
    target.value = { ...c.config.target }
  },
  { immediate: true },
)
const shape = () => ({
  kind: form.kind,
  ask: form.ask,
  options: form.kind === 'choice' ? words(form.options) : [],
  lowest: form.kind === 'level' ? Number(form.lowest) || 0 : 0,
  safe: form.kind === 'switch' ? form.safe === 'on' : form.kind === 'level' ? Number(form.safe) || 0 : form.safe,
  momentary:
    form.kind === 'switch' && Number(form.pulse) > 0
      ? {
          for_ms: Math.round(Number(form.pulse) * 1000),
          times: Number(form.times),
          gap_ms: Number(form.times) > 1 ? Math.round(Number(form.gap) * 1000) : 0,
        }
      : undefined,
})
const safeWords = computed(() =>
  form.kind === 'mover' ? ['close', 'stop', 'open'] : form.kind === 'choice' ? words(form.options) : ['off', 'on'],
)
watch(
  () => form.kind,
  (kind) => {
    if (kind === 'mover' && !['close', 'stop', 'open'].includes(form.safe)) form.safe = 'stop'
    if (kind === 'level' && Number.isNaN(Number(form.safe))) form.safe = '0'
  },
)
const serve = () =>
  send(() => ask(api.PUT('/controls/{id}/service', { params: { path: { id: props.control.config.id } }, body: { service: form.service } })))
const save = () =>
  send(() =>
    keepPart(
      'controls',
      {
        ...props.control.config,
        name: form.name,
        dangerous: form.dangerous,
        answers: form.answers,
        at_device: form.at_device,
        guests: form.guests,
        source: source.value,
        target: target.value,
        ...shape(),
        confirm_after_ms: Math.round(Number(form.confirm) * 1000),
        resume_within_ms: Math.round(Number(form.resume) * 3600_000),
      },
      props.control.version,
    ),
  )
</script>

<template>
  <div class="block" :data-edit="control.config.id">
    <form class="line" @submit.prevent="save">
      <div class="what">
        <strong>{{ control.config.name }}</strong><br /><span class="soft small-text"
          >{{ control.config.id }} · {{ control.config.momentary ? 'momentary' : control.config.kind }}</span
        >
      </div>
      <label><span>Name</span><BFormInput v-model="form.name" size="sm" required /></label>
      <label class="short"
        ><span>Confirm within, s</span><BFormInput v-model="form.confirm" size="sm" type="number" min="1" max="600"
      /></label>
      <label class="short"
        ><span>Resume within, h</span
        ><BFormInput v-model="form.resume" size="sm" type="number" min="0" step="any" :disabled="form.dangerous"
      /></label>
      <label
        ><span>Switched at the board</span
        ><BFormSelect
          v-model="form.at_device"
          size="sm"
          :options="[
            { value: 'follow', text: 'the hub follows' },
            { value: 'insist', text: 'the hub insists' },
          ]"
      /></label>
      <label
        ><span>Guests</span
        ><BFormSelect
          v-model="form.guests"
          size="sm"
          :options="[
            { value: 'none', text: 'see nothing' },
            { value: 'see', text: 'may see it' },
            { value: 'switch', text: 'may switch it' },
          ]"
      /></label>
      <BFormCheckbox v-model="form.dangerous">Dangerous: ask first, never resume</BFormCheckbox>
      <button class="btn btn-outline-secondary btn-sm">Save</button>
      <span class="small-text" role="status" :class="{ 'warn-text': failed }">{{ failed || (saved ? 'saved' : '') }}</span>
    </form>
    <div class="more small-text">
      <button type="button" :aria-expanded="open" @click="open = !open">What is sent, what comes back</button>
      <button type="button" :aria-expanded="more" @click="more = !more">Kind, safe value, repairs</button>
      <RouterLink :to="{ name: 'control', hash: '#' + control.config.id }">What the hub decides</RouterLink>
      <button type="button" @click="emit('remove')">Remove</button>
    </div>
    <form v-if="more" class="inset stack tight" @submit.prevent="save">
      <div class="fields">
        <label
          ><span>What it is</span
          ><BFormSelect
            v-model="form.kind"
            size="sm"
            :options="[
              { value: 'switch', text: 'a switch' },
              { value: 'level', text: 'a level, 0 to 100 %' },
              { value: 'choice', text: 'a choice of words' },
              { value: 'mover', text: 'a door, blind or valve' },
            ]"
        /></label>
        <label v-if="form.kind === 'choice'"
          ><span>Options, with commas</span><BFormInput v-model="form.options" size="sm" placeholder="shut, half, open"
        /></label>
        <label v-if="form.kind === 'level'" class="short"
          ><span>Lowest running level, %</span><BFormInput v-model="form.lowest" size="sm" type="number" min="0" max="100"
        /></label>
        <label v-if="form.kind === 'level'" class="short"
          ><span>Safe level, %</span><BFormInput v-model="form.safe" size="sm" type="number" min="0" max="100"
        /></label>
        <label v-else class="short"><span>Safe value</span><BFormSelect v-model="form.safe" size="sm" :options="safeWords" /></label>
        <template v-if="form.kind === 'switch'">
          <label class="short"
            ><span>Only pulses, for s</span
            ><BFormInput v-model="form.pulse" size="sm" type="number" min="0" max="60" step="any" placeholder="no"
          /></label>
          <label v-if="Number(form.pulse) > 0" class="short"
            ><span>Times</span><BFormInput v-model="form.times" size="sm" type="number" min="1" max="10"
          /></label>
          <label v-if="Number(form.times) > 1" class="short"
            ><span>Gap, s</span><BFormInput v-model="form.gap" size="sm" type="number" min="0.1" max="60" step="any"
          /></label>
        </template>
        <BFormCheckbox v-model="form.ask">ask before it leaves auto</BFormCheckbox>
        <BButton type="submit" size="sm" variant="primary">Save</BButton>
      </div>
      <div class="fields">
        <label
          ><span>For repairs</span
          ><BFormSelect
            v-model="form.service"
            size="sm"
            :options="[
              { value: '', text: 'in service' },
              { value: 'silent', text: 'out of service: told nothing' },
              { value: 'safe', text: 'out of service: kept at its safe value' },
            ]"
            @change="serve"
        /></label>
      </div>
    </form>
    <form v-if="open" class="inset stack tight" @submit.prevent="save">
      <h3>What is sent</h3>
      <TargetEditor v-model="target" :link="link" :kind="form.kind" />
      <h3>What it says that it is</h3>
      <BFormCheckbox v-model="form.answers">it answers; otherwise a want counts as sent</BFormCheckbox>
      <SourceEditor v-if="form.answers" v-model="source" :link="link" onoff />
      <div><BButton type="submit" size="sm" variant="primary">Save the mapping</BButton></div>
    </form>
  </div>
</template>
