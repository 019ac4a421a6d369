<script setup lang="ts">
// What a device and the hub told each other, live, and what became of it.
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormSelect } from 'bootstrap-vue-next/components/BFormSelect'
import { computed, ref } from 'vue'
import type { Message } from '../api'
import { clockText } from '../format'
import { useHub } from '../hub'

const props = defineProps<{ messages: Message[]; failed: string; known: boolean }>()
const hub = useHub()
const which = ref<'all' | 'in' | 'out' | 'refused'>('all')
const frozen = ref<Message[] | null>(null)
const shown = ref(window.matchMedia('(max-width: 820px)').matches ? 8 : 40)
const kept = 1024 // bytes of a payload that the hub keeps for this
const list = computed(() =>
  (frozen.value ?? props.messages).filter(
    (m) => which.value === 'all' || (which.value === 'refused' ? m.refused : m.out === (which.value === 'out')),
  ),
)
const at = (m: Message) =>
  clockText(Date.parse(m.at), hub.zone, { hour: '2-digit', minute: '2-digit', second: '2-digit', fractionalSecondDigits: 1 })
</script>

<template>
  <section class="sheet">
    <div class="between mb-2">
      <h2>Traffic</h2>
      <div class="d-flex gap-2">
        <BFormSelect
          v-model="which"
          size="sm"
          aria-label="Which messages"
          :options="[
            { value: 'all', text: 'both ways' },
            { value: 'in', text: 'from the device' },
            { value: 'out', text: 'to the device' },
            { value: 'refused', text: 'refused' },
          ]" />
        <BButton size="sm" variant="outline-secondary" class="text-nowrap" @click="frozen = frozen ? null : messages">{{
          frozen ? 'Go on' : 'Hold still'
        }}</BButton>
      </div>
    </div>
    <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
    <p v-if="known && !list.length" class="soft mb-0">
      Nothing yet since the hub started. What comes and goes is shown here at once, with what became of it.
    </p>
    <table v-else-if="list.length" class="table cards tight traffic">
      <thead>
        <tr>
          <th>At</th>
          <th>Way</th>
          <th>Topic, register, path</th>
          <th>Payload</th>
          <th>What became of it</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="m in list.slice(0, shown)" :key="m.seq" :class="{ refused: m.refused }">
          <td class="text-nowrap soft">{{ at(m) }}</td>
          <td class="text-nowrap">{{ m.out ? '← to it' : '→ from it' }}</td>
          <td>
            <code>{{ m.topic }}</code>
          </td>
          <td>
            <code class="payload">{{ m.payload || '(empty)' }}</code><span v-if="m.bytes > kept" class="soft small-text">
              … {{ m.bytes }} bytes</span
            >
          </td>
          <td :class="{ 'warn-text': m.refused }">{{ m.result }}</td>
        </tr>
      </tbody>
    </table>
    <BButton v-if="list.length > shown" size="sm" class="mt-2" variant="outline-secondary" @click="shown += 100">Earlier ones</BButton>
  </section>
</template>

<style scoped>
.traffic td {
  font-size: 0.8125rem;
}
.payload {
  display: -webkit-box;
  -webkit-line-clamp: 3;
  -webkit-box-orient: vertical;
  overflow: hidden;
}
</style>
