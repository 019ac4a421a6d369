<script setup lang="ts">
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { reactive, ref, watch } from 'vue'
import { api, ask, sentence, type Signal } from '../api'
import { length, unitSign, valueText } from '../format'

const props = defineProps<{ signal: Signal }>()
const form = reactive({ name: '', unit: '', decimals: 0, guests: 'none' as Signal['guests'] })
const failed = ref('')
const saved = ref(false)
watch(() => [props.signal.name, props.signal.unit, props.signal.decimals, props.signal.guests], () => {
  Object.assign(form, { name: props.signal.name, unit: props.signal.unit, decimals: props.signal.decimals, guests: props.signal.guests })
}, { immediate: true })

async function save() {
  failed.value = ''
  saved.value = false
  const { name, unit, guests } = form
  try {
    await ask(api.PATCH('/signals/{id}', { params: { path: { id: props.signal.id }, header: { 'If-Match': props.signal.version } }, body: { name, unit, decimals: Number(form.decimals), guests } }))
    saved.value = true
  } catch (e) {
    failed.value = sentence(e)
  }
}
</script>

<template>
  <form class="line" @submit.prevent="save">
    <div class="what">
      <strong>{{ signal.name }}</strong> <span v-if="signal.new" class="badge-new">new</span><br />
      <span class="soft small-text">{{ signal.id }} · {{ valueText(signal.value, signal.decimals) }} {{ unitSign(signal.unit) }} · {{ signal.reports === 'change' ? 'on change' : signal.interval_ms ? `every ${length(signal.interval_ms)}` : 'learning how often' }}</span>
    </div>
    <label><span>Name</span><BFormInput v-model="form.name" size="sm" required /></label>
    <label class="short"><span>Unit</span><BFormInput v-model="form.unit" size="sm" placeholder="Cel, %, W" /></label>
    <label class="short"><span>Decimals</span><BFormInput v-model="form.decimals" size="sm" type="number" min="0" max="6" :disabled="signal.kind !== 'number'" /></label>
    <label class="short"><span>Guests</span><BFormSelect v-model="form.guests" size="sm" :options="[{ value: 'none', text: 'see nothing' }, { value: 'see', text: 'may see it' }]" /></label>
    <button class="btn btn-outline-secondary btn-sm">Save</button>
    <span class="after small-text" role="status" :class="{ 'warn-text': failed }">{{ failed || (saved ? 'saved' : '') }}</span>
  </form>
</template>

<style scoped>
.line { display: flex; flex-wrap: wrap; gap: 8px 12px; align-items: end; padding: 10px 0; border-top: 1px solid var(--line); }
.what { flex: 1 1 220px; overflow-wrap: anywhere; }
label { flex: 1 1 140px; }
label.short { flex: 0 1 120px; }
label > span { font-size: 0.75rem; color: var(--soft); }
.after { min-width: 50px; }
.badge-new { color: var(--data); font-size: 0.75rem; border: 1px solid currentColor; border-radius: 6px; padding: 0 5px; }
</style>
