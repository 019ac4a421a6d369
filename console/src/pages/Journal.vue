<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { onMounted, ref, watch } from 'vue'
import { api, ask, sentence, type JournalEntry } from '../api'
import { clockText } from '../format'
import { useHub, useOnly } from '../hub'

const hub = useHub()
useOnly(() => [])
const entries = ref<JournalEntry[]>([])
const next = ref<number | undefined>()
const failed = ref('')
const loading = ref(true)

async function load(more = false) {
  loading.value = true
  try {
    const page = await ask(api.GET('/journal', { params: { query: { limit: 60, cursor: more ? next.value : undefined } } }))
    entries.value = more ? [...entries.value, ...page.entries] : page.entries
    next.value = page.next
    failed.value = ''
  } catch (e) {
    failed.value = sentence(e)
  }
  loading.value = false
}
onMounted(() => load())
watch(() => Object.values(hub.controls).map((c) => c.rev + c.phase).join() + Object.values(hub.devices).map((d) => d.online).join(), () => load())

const when = (e: JournalEntry) => clockText(Date.parse(e.at), hub.zone, { weekday: 'short', day: '2-digit', month: 'short', hour: '2-digit', minute: '2-digit', second: '2-digit' })
const change = (e: JournalEntry) => (e.before && e.after ? `${e.before} → ${e.after}` : e.after || e.before)
</script>

<template>
  <main class="page">
    <h1 class="mb-3">Journal</h1>
    <div v-if="failed" class="note bad mb-3" role="alert">{{ failed }}</div>
    <section class="sheet">
      <p v-if="!entries.length" class="soft mb-0">{{ loading ? 'Asking the hub …' : 'Nothing has happened yet. Every switch and every change will be here: who, what, from where and when.' }}</p>
      <table v-else class="table cards tight">
        <thead><tr><th>When</th><th>Who</th><th>From</th><th>What</th><th>Change</th><th>Why</th></tr></thead>
        <tbody>
          <tr v-for="e in entries" :key="e.id">
            <td class="text-nowrap soft">{{ when(e) }}</td>
            <td>{{ e.actor }}</td>
            <td class="soft from">{{ e.source }}</td>
            <td>{{ e.action }} <strong>{{ e.object }}</strong></td>
            <td class="change">{{ change(e) }}</td>
            <td class="soft">{{ e.reason }}</td>
          </tr>
        </tbody>
      </table>
    </section>
    <BButton v-if="next" class="mt-3" variant="outline-secondary" :disabled="loading" @click="load(true)">Earlier</BButton>
  </main>
</template>

<style scoped>
.change, .from { overflow-wrap: anywhere; min-width: 110px; }
.change { min-width: 150px; }
</style>
