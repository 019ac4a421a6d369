<script setup lang="ts">
import { BFormCheckbox } from 'bootstrap-vue-next/components/BFormCheckbox'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { reactive, ref, watch } from 'vue'
import { api, ask, sentence, type Control } from '../api'

const props = defineProps<{ control: Control }>()
const form = reactive({ name: '', confirm: 5, resume: 24, dangerous: false, at_device: 'follow' as Control['at_device'], guests: 'none' as Control['guests'] })
const failed = ref('')
const saved = ref(false)
watch(() => [props.control.name, props.control.confirm_after_ms, props.control.resume_within_ms, props.control.dangerous, props.control.at_device, props.control.guests], () => {
  const c = props.control
  Object.assign(form, { name: c.name, confirm: c.confirm_after_ms / 1000, resume: c.resume_within_ms / 3600_000, dangerous: c.dangerous, at_device: c.at_device, guests: c.guests })
}, { immediate: true })

async function save() {
  failed.value = ''
  saved.value = false
  const { name, dangerous, at_device, guests } = form
  try {
    await ask(api.PATCH('/controls/{id}', { params: { path: { id: props.control.id }, header: { 'If-Match': props.control.version } },
      body: { name, dangerous, at_device, guests, confirm_after_ms: Math.round(Number(form.confirm) * 1000), resume_within_ms: Math.round(Number(form.resume) * 3600_000) } }))
    saved.value = true
  } catch (e) {
    failed.value = sentence(e)
  }
}
</script>

<template>
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
</template>

<style scoped>
.line { display: flex; flex-wrap: wrap; gap: 8px 12px; align-items: end; padding: 10px 0; border-top: 1px solid var(--line); }
.what { flex: 1 1 220px; overflow-wrap: anywhere; }
label { flex: 1 1 140px; }
label.short { flex: 0 1 130px; }
label > span { font-size: 0.75rem; color: var(--soft); }
</style>
