<script setup lang="ts">
// What is at the other place, and whether a backup can be restored.
import { ref, watch } from 'vue'
import { api, ask, type Backup, type BackupsView } from '../api'
import { useSend } from '../form'
import { dayText, size } from '../format'
import { useHub } from '../hub'

const props = defineProps<{ view: BackupsView }>()
const emit = defineEmits<{ look: [] }>()
const hub = useHub()
const there = ref<Backup[] | null>(null)
const { failed, busy, send } = useSend()
watch(
  () => props.view.version,
  () => (there.value = null),
)
const list = () => send(async () => (there.value = await ask(api.GET('/backups/elsewhere'))))
const fetch = (name: string) =>
  send(async () => {
    await ask(api.POST('/backups/elsewhere/{name}', { params: { path: { name } } }))
    emit('look')
  })
const drill = () =>
  send(async () => {
    await ask(api.POST('/backups/drill'))
    emit('look')
  })
const here = (name: string) => props.view.state.list.some((b) => b.name === name)
</script>

<template>
  <div v-if="view.config.elsewhere?.via" class="stack tight">
    <div v-if="view.state.not_copied" class="note bad" role="alert">The newest is not at the other place: {{ view.state.not_copied }}</div>
    <div class="between">
      <h3>At the other place</h3>
      <button type="button" class="btn btn-outline-secondary btn-sm" :disabled="busy" @click="list">
        {{ there ? 'Refresh' : 'Show' }}
      </button>
    </div>
    <p v-if="there && !there.length" class="soft mb-0">None yet.</p>
    <ul v-else-if="there" class="backups">
      <li v-for="b in there" :key="b.name">
        <span>{{ dayText(Date.parse(b.at), hub.zone) }}</span><code class="small-text">{{ b.name }}</code
        ><span class="soft">{{ size(b.bytes) }}</span
        ><span v-if="b.of" class="soft small-text">of another hub: {{ b.of }}</span>
        <span v-if="here(b.name)" class="soft small-text">here too</span
        ><button v-else type="button" class="btn btn-outline-secondary btn-sm" :disabled="busy" @click="fetch(b.name)">Fetch</button>
      </li>
    </ul>
  </div>
  <div v-if="view.state.list.length || view.config.elsewhere?.via" class="stack tight">
    <div v-if="view.state.drill_failed" class="note bad" role="alert">The last restore drill failed: {{ view.state.drill_failed }}</div>
    <div class="between">
      <p class="soft small-text mb-0">
        {{
          view.state.drilled
            ? `Last restored for a trial and verified: ${dayText(Date.parse(view.state.drilled), hub.zone)}.`
            : 'Not restored for a trial yet.'
        }}
        Where backups are made by themselves, that is done each month.
      </p>
      <button type="button" class="btn btn-outline-secondary btn-sm" :disabled="busy" @click="drill">
        {{ busy ? 'One moment …' : 'Restore drill' }}
      </button>
    </div>
  </div>
  <span class="small-text warn-text" role="status">{{ failed }}</span>
</template>

<style scoped>
h3 {
  font-size: 0.9375rem;
  font-weight: 600;
  margin: 0;
}
</style>
