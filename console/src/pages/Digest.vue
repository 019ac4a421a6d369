<script setup lang="ts">
// What happened in a day or a week, in words: the same that goes out by mail.
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, sentence, type Digest } from '../api'
import { dayText } from '../format'
import { useHub } from '../hub'

const hub = useHub()
const route = useRoute()
const router = useRouter()
hub.heading = 'What happened'
const day = 86400_000
const num = (v: unknown) => (typeof v === 'string' && /^\d+$/.test(v) ? Number(v) : 0)
const to = computed(() => num(route.query.to) || Date.now())
const from = computed(() => num(route.query.from) || to.value - day)
const span = computed(() => to.value - from.value)
const week = computed(() => span.value > 3 * day)
const digest = ref<Digest | null>(null)
const failed = ref('')
async function load() {
  failed.value = ''
  try {
    digest.value = await ask(
      api.GET('/digest', { params: { query: { from: new Date(from.value).toISOString(), to: new Date(to.value).toISOString() } } }),
    )
  } catch (e) {
    failed.value = sentence(e)
  }
}
watch([() => route.query.from, () => route.query.to], load, { immediate: true })
const go = (end: number, length: number) =>
  router.push({
    query:
      end >= Date.now() - 60_000
        ? length === day
          ? {}
          : { from: String(Date.now() - length), to: String(Date.now()) }
        : { from: String(end - length), to: String(end) },
  })
</script>

<template>
  <main class="page stack">
    <div class="between">
      <h1>What happened</h1>
      <div class="d-flex flex-wrap gap-2" role="group" aria-label="Stretch">
        <button
          type="button"
          class="btn btn-outline-secondary btn-sm"
          :class="{ active: !week }"
          :aria-pressed="!week"
          @click="go(to, day)">
          Day
        </button>
        <button
          type="button"
          class="btn btn-outline-secondary btn-sm"
          :class="{ active: week }"
          :aria-pressed="week"
          @click="go(to, 7 * day)">
          Week
        </button>
        <button type="button" class="btn btn-outline-secondary btn-sm" @click="go(to - span, span)">Earlier</button>
        <button type="button" class="btn btn-outline-secondary btn-sm" :disabled="to > Date.now() - 60_000" @click="go(to + span, span)">
          Later
        </button>
      </div>
    </div>
    <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
    <p v-if="digest" class="soft mb-0">
      From {{ dayText(Date.parse(digest.from), hub.zone) }} to {{ dayText(Date.parse(digest.to), hub.zone) }}
    </p>
    <p v-else-if="!failed" class="soft mb-0" aria-busy="true">Adding it up …</p>
    <section v-if="digest && !digest.sections.length" class="sheet"><p class="soft mb-0">Nothing happened that needs a word.</p></section>
    <div class="sections">
      <section v-for="s in digest?.sections ?? []" :key="s.title" class="sheet" :aria-label="s.title">
        <h2 class="mb-2">{{ s.title }}</h2>
        <ul class="lines">
          <li v-for="(l, i) in s.lines" :key="i">
            <RouterLink v-if="l.series" :to="{ name: 'charts', query: { s: l.series, span: String(span) } }">{{ l.text }}</RouterLink><span
              v-else
              >{{ l.text }}</span
            >
          </li>
        </ul>
      </section>
    </div>
    <p v-if="hub.owner" class="soft small-text mb-0">
      It can come by mail each morning or each week:
      <RouterLink :to="{ name: 'alerts', hash: '#messaging' }">Alerts, Who is told</RouterLink>.
    </p>
  </main>
</template>

<style scoped>
.sections {
  columns: 2 420px;
  column-gap: 18px;
}
.sections .sheet {
  break-inside: avoid;
  margin: 0 0 18px;
}
.lines {
  list-style: none;
  padding: 0;
  margin: 0;
}
.lines li {
  padding: 6px 0;
  overflow-wrap: anywhere;
}
.lines li + li {
  border-top: 1px solid var(--line);
}
.lines a {
  color: var(--ink);
  text-decoration-color: var(--line);
  text-underline-offset: 3px;
}
</style>
