<script setup lang="ts">
// Paste a message and see what the mapping makes of it; nothing is kept.
import { BButton } from 'bootstrap-vue-next/components/BButton'
import { BFormInput } from 'bootstrap-vue-next/components/BFormInput'
import { BFormTextarea } from 'bootstrap-vue-next/components/BFormTextarea'
import { computed, ref } from 'vue'
import { api, ask, type Device, type Message, type Source, type Tried } from '../api'
import { useSend } from '../form'
import SourceEditor from './SourceEditor.vue'

const props = defineProps<{ device: Device; messages: Message[] }>()
const topic = ref('')
const payload = ref('')
const draft = ref<Source>({})
const found = ref<Tried[] | null>(null)
const { failed, busy, send } = useSend()
const topics = computed(() => props.device.config.link.kind === 'mqtt' || props.device.config.link.kind === 'outside')
const newest = computed(() => props.messages.find((m) => !m.out && m.payload))
const mapped = computed(() => Object.keys(draft.value).length > 0)

function take() {
  payload.value = newest.value!.payload
  if (topics.value) topic.value = newest.value!.topic
}
const tryIt = () =>
  send(async () => {
    const signals = mapped.value
      ? { [props.device.config.id + '.draft']: topics.value && !draft.value.topic ? { ...draft.value, topic: topic.value } : draft.value }
      : undefined
    found.value = await ask(
      api.POST('/devices/{id}/try', {
        params: { path: { id: props.device.config.id } },
        body: { topic: topics.value ? topic.value : undefined, payload: payload.value, signals },
      }),
    )
  })
</script>

<template>
  <form class="sheet stack tight" @submit.prevent="tryIt">
    <div class="between">
      <h2>Try a message</h2>
      <BButton v-if="newest" size="sm" variant="outline-secondary" @click="take">Take the newest one</BButton>
    </div>
    <p class="soft small-text mb-0">Paste what the device sends and see what its mapping makes of it. Nothing is kept.</p>
    <div v-if="topics" class="fields">
      <label><span>Topic</span><BFormInput v-model="topic" size="sm" placeholder="where it is published" /></label>
    </div>
    <label
      ><span class="soft small-text">Message</span
      ><BFormTextarea v-model="payload" rows="3" class="mono" placeholder='{"sensor":{"temperature":21.4}}'
    /></label>
    <details>
      <summary>Try a new mapping on it</summary>
      <SourceEditor v-model="draft" :link="device.config.link.kind" :onoff="false" />
    </details>
    <div><BButton type="submit" size="sm" variant="primary" :disabled="busy || !payload">Try it</BButton></div>
    <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
    <div v-if="found" role="status">
      <p v-if="!found.length" class="soft mb-0">
        No mapping of this device speaks of such a message. Values on the hub's own topics, and plain JSON objects, need none.
      </p>
      <table v-else class="table cards">
        <tbody>
          <tr v-for="x in found" :key="x.id">
            <td>
              <strong>{{ x.id.endsWith('.draft') ? 'the new mapping' : x.id }}</strong>
            </td>
            <td>
              <code>{{ x.text }}</code>
            </td>
            <td>
              {{ x.value }}<span v-if="x.why" class="warn-text">{{ x.why }}</span>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </form>
</template>
