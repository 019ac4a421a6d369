<script setup lang="ts">
// Where the link of a message leads: what it was about, and a button. Opening it changes nothing, since mail scanners open links.
import { computed, onMounted, ref } from 'vue'
import { api, ask, sentence, type LinkedAlert } from '../api'
import Icon from '../components/Icon.vue'
import Mark from '../components/Mark.vue'
import { useSend } from '../form'
import { dayText } from '../format'

const link = location.hash.slice(1)
const it = ref<LinkedAlert | null>(null)
const trouble = ref('')
const word = ref('')
const { failed, busy, send } = useSend()
async function load() {
  trouble.value = ''
  if (!link) {
    trouble.value = 'The address is not whole: what stands behind the # is missing. Open the link from the message again.'
    return
  }
  try {
    it.value = await ask(api.POST('/letters', { body: { link } }))
  } catch (e) {
    trouble.value = sentence(e)
  }
}
onMounted(load)
const open = computed(() => !!it.value && !it.value.past && ['active', 'returned'].includes(it.value.alert.state.phase))
const acknowledge = () =>
  send(async () => {
    it.value = await ask(api.POST('/letters/acknowledge', { body: { link, word: word.value || undefined } }))
  })
const phase = computed(() => {
  const a = it.value!.alert
  if (it.value!.past) return 'This is over. It came again since; another message told of that.'
  return {
    active: 'It is so now.',
    returned: 'It is over, and waits for somebody to say that they know.',
    acknowledged: `${a.state.by} knows${a.state.word ? `: ${a.state.word}` : ''}.`,
    normal: 'It is over.',
    shelved: `${a.state.by} shelved it.`,
    out_of_service: 'It is out of service.',
  }[a.state.phase]
})
const when = (t: string | undefined) => (t ? dayText(Date.parse(t), it.value!.zone) : '')
</script>

<template>
  <main class="page narrow">
    <section class="sheet stack tight" :aria-busy="!it && !trouble">
      <h1 class="d-flex gap-2 align-items-center"><Mark /> {{ it ? it.alert.config.name : 'A message from the hub' }}</h1>
      <div v-if="trouble" class="note bad" role="alert">
        <Icon name="away" :size="20" />
        <div>{{ trouble }}</div>
      </div>
      <button v-if="trouble && link" type="button" class="btn btn-outline-secondary" @click="load">Try again</button>
      <template v-if="it">
        <p class="mb-0" role="status">
          <strong :class="{ 'warn-text': open }">{{ phase }}</strong>
        </p>
        <dl>
          <template v-if="it.place"
            ><dt>Where</dt>
            <dd>{{ it.place }}</dd></template
          >
          <template v-if="it.alert.state.value"
            ><dt>Now</dt>
            <dd class="value">{{ it.alert.state.value }}</dd></template
          >
          <template v-if="it.alert.state.was"
            ><dt>When it came</dt>
            <dd>{{ it.alert.state.was }}</dd></template
          >
          <template v-if="it.alert.state.limit"
            ><dt>Limit</dt>
            <dd>{{ it.alert.state.limit }}</dd></template
          >
          <template v-if="it.alert.state.since"
            ><dt>Since</dt>
            <dd>{{ when(it.alert.state.since) }}</dd></template
          >
        </dl>
        <p v-if="it.alert.config.text && open" class="do mb-0">{{ it.alert.config.text }}</p>
        <form v-if="open" class="stack tight" @submit.prevent="acknowledge">
          <label
            ><span class="soft small-text">A word with it</span
            ><input v-model="word" class="form-control" maxlength="200" placeholder="I am on my way"
          /></label>
          <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
          <button class="btn btn-primary" :disabled="busy">{{ busy ? 'Telling the hub …' : 'Acknowledge' }}</button>
        </form>
        <p class="soft small-text mb-0">
          {{ it.name }} · <a href="/alerts">all alerts</a>, signed in · this link works until {{ when(it.expires) }}
        </p>
      </template>
    </section>
  </main>
</template>

<style scoped>
.narrow {
  max-width: 480px;
  padding-top: min(12vh, 90px);
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 4px 16px;
  margin: 0;
}
dt {
  color: var(--soft);
  font-weight: 400;
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.value {
  font-weight: 620;
  font-variant-numeric: tabular-nums;
}
.do {
  border-left: 3px solid var(--ember);
  padding-left: 12px;
}
</style>
