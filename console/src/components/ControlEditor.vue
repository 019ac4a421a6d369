<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormCheckbox } from 'bootstrap-vue-next/components/BFormCheckbox'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { reactive, ref, watch } from 'vue'
import { api, ask, type Control, type Link, type Source, type Target } from '../api'
import { useSend } from '../form'
import SourceEditor from './SourceEditor.vue'
import TargetEditor from './TargetEditor.vue'

const props = defineProps<{ control: Control; link: Link['kind'] }>()
const emit = defineEmits<{ remove: [] }>()
const form = reactive({ name: '', confirm: 5, resume: 24, dangerous: false, answers: true, at_device: 'follow' as Control['at_device'], guests: 'none' as Control['guests'] })
const source = ref<Source>({})
const target = ref<Target>({})
const open = ref(false)
const { failed, saved, send } = useSend()
const key = () => { const c = props.control; return JSON.stringify([c.name, c.confirm_after_ms, c.resume_within_ms, c.dangerous, c.answers, c.at_device, c.guests, c.source, c.target]) }
watch(key, () => {
  const c = props.control
  Object.assign(form, { name: c.name, confirm: c.confirm_after_ms / 1000, resume: c.resume_within_ms / 3600_000, dangerous: c.dangerous, answers: c.answers, at_device: c.at_device, guests: c.guests })
  source.value = { ...c.source }
  target.value = { ...c.target }
}, { immediate: true })
const save = () => send(() => ask(api.PATCH('/controls/{id}', { params: { path: { id: props.control.id }, header: { 'If-Match': props.control.version } },
  body: { name: form.name, dangerous: form.dangerous, answers: form.answers, at_device: form.at_device, guests: form.guests, source: source.value, target: target.value,
    confirm_after_ms: Math.round(Number(form.confirm) * 1000), resume_within_ms: Math.round(Number(form.resume) * 3600_000) } })))
</script>

<template>
  <div class="block" :data-edit="control.id">
    <form class="line" @submit.prevent="save">
      <div class="what"><strong>{{ control.name }}</strong><br /><span class="soft small-text">{{ control.id }} · switch</span></div>
      <label><span>Name</span><BFormInput v-model="form.name" size="sm" required /></label>
      <label class="short"><span>Confirm within, s</span><BFormInput v-model="form.confirm" size="sm" type="number" min="1" max="600" /></label>
      <label class="short"><span>Resume within, h</span><BFormInput v-model="form.resume" size="sm" type="number" min="0" step="any" :disabled="form.dangerous" /></label>
      <label><span>Switched at the board</span><BFormSelect v-model="form.at_device" size="sm" :options="[{ value: 'follow', text: 'the hub follows' }, { value: 'insist', text: 'the hub insists' }]" /></label>
      <label><span>Guests</span><BFormSelect v-model="form.guests" size="sm" :options="[{ value: 'none', text: 'see nothing' }, { value: 'see', text: 'may see it' }, { value: 'switch', text: 'may switch it' }]" /></label>
      <BFormCheckbox v-model="form.dangerous">Dangerous: ask first, never resume</BFormCheckbox>
      <button class="btn btn-outline-secondary btn-sm">Save</button>
      <span class="small-text" role="status" :class="{ 'warn-text': failed }">{{ failed || (saved ? 'saved' : '') }}</span>
    </form>
    <div class="more small-text">
      <button type="button" :aria-expanded="open" @click="open = !open">What is sent, what comes back</button>
      <button type="button" @click="emit('remove')">Remove</button>
    </div>
    <form v-if="open" class="inset stack tight" @submit.prevent="save">
      <h3>What is sent</h3>
      <TargetEditor v-model="target" :link="link" />
      <h3>What it says that it is</h3>
      <BFormCheckbox v-model="form.answers">it answers; otherwise a want counts as sent</BFormCheckbox>
      <SourceEditor v-if="form.answers" v-model="source" :link="link" onoff />
      <div><BButton type="submit" size="sm" variant="primary">Save the mapping</BButton></div>
    </form>
  </div>
</template>
