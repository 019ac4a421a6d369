<script setup lang="ts">
// Code that works on a board when pasted, filled with the hub's address and the device's names.
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormRadioGroup } from 'bootstrap-vue-next/components/BFormRadio'
import { computed, onMounted, ref } from 'vue'
import { api, ask, type Starter } from '../api'
import { useSend } from '../form'

const props = defineProps<{ device: string; password?: string }>()
const list = ref<Starter[]>([])
const kind = ref('')
const copied = ref(false)
const { failed, send } = useSend()
onMounted(() =>
  send(async () => {
    list.value = await ask(api.GET('/devices/{id}/starter', { params: { path: { id: props.device } } }))
    kind.value = list.value[0]?.id ?? ''
  }),
)
const chosen = computed(() => list.value.find((s) => s.id === kind.value))
const code = computed(() => (chosen.value?.code ?? '').replaceAll('DEVICE-KEY', props.password ?? 'DEVICE-KEY'))
async function copy() {
  try {
    await navigator.clipboard.writeText(code.value)
    copied.value = true
  } catch {
    copied.value = false
  }
}
const href = computed(() => 'data:text/plain;charset=utf-8,' + encodeURIComponent(code.value))
</script>

<template>
  <section v-if="list.length || failed" class="sheet stack tight">
    <div class="between">
      <h2>Starter code</h2>
      <BFormRadioGroup
        v-model="kind"
        :options="list.map((s) => ({ value: s.id, text: s.name }))"
        aria-label="Kind of board"
        @change="copied = false" />
    </div>
    <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
    <template v-if="chosen">
      <p class="soft small-text mb-0">
        {{ chosen.about }} {{ password ? 'The key is already in it.' : 'Put the key where DEVICE-KEY stands.' }}
      </p>
      <pre class="code" tabindex="0" :aria-label="chosen.file">{{ code }}</pre>
      <div class="d-flex gap-2 align-items-center">
        <BButton size="sm" variant="outline-secondary" @click="copy">Copy</BButton
        ><a class="btn btn-outline-secondary btn-sm" :href="href" :download="chosen.file">Save as {{ chosen.file }}</a
        ><span role="status" class="small-text soft">{{ copied ? 'copied' : '' }}</span>
      </div>
    </template>
  </section>
</template>

<style scoped>
pre {
  max-height: 320px;
  overflow: auto;
  margin: 0;
  padding: 12px;
  background: var(--paper);
  border: 1px solid var(--line);
  border-radius: 8px;
  font-size: 0.75rem;
  line-height: 1.45;
}
</style>
