<script setup lang="ts">
import { BApp } from 'bootstrap-vue-next/components/BApp'
import { useAttention } from './attention'
import { computed, defineAsyncComponent, onMounted, watch, watchEffect } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import Announcer from './components/Announcer.vue'
import ClockDoubt from './components/ClockDoubt.vue'
import Headline from './components/Headline.vue'
import Proof from './components/Proof.vue'
import Icon from './components/Icon.vue'
import TitleBar from './components/TitleBar.vue'
import TabBar from './components/TabBar.vue'
import { length, style } from './format'
import { useHub } from './hub'
import { chime } from './sound'
import { followTheme } from './theme'

const FirstStart = defineAsyncComponent(() => import('./pages/FirstStart.vue'))
const SignIn = defineAsyncComponent(() => import('./pages/SignIn.vue'))

const hub = useHub()
const route = useRoute()
const router = useRouter()
followTheme()
// A wall signs in by the key in its address, the link of a message needs nobody signed in; the router must have seen which it is.
onMounted(async () => {
  await router.isReady()
  if (!route.meta.open) await hub.begin()
})

watchEffect(() =>
  Object.assign(style, { comma: !!hub.preferences.comma, clock12: !!hub.preferences.clock_12, units: hub.preferences.units ?? '' }),
)
// What newly needs somebody is told once, and counted in the title, which is seen when the page is not.
const needs = computed(() => (hub.loaded && hub.me && !hub.wall ? useAttention().items.map((i) => i.key) : []))
const count = computed(() => (needs.value.length ? `(${needs.value.length}) ` : ''))
watch(needs, (now, before) => {
  if (hub.preferences.sound && hub.link === 'live' && now.some((k) => !before.includes(k))) chime()
})
watchEffect(() => {
  const name = hub.status?.name ?? 'Idle Ember'
  document.title = count.value + (hub.me && route.meta.title ? `${hub.heading || route.meta.title} · ${name}` : name)
})
// Whoever opens the console, and goes nowhere, gets to the page of their choice.
let opened = location.pathname === '/'
router.beforeEach(() => {
  hub.heading = ''
})
router.afterEach((to) => {
  if (to.path !== '/') opened = false
})
watch(
  () => hub.preferencesKnown,
  (known) => {
    if (known && opened && hub.preferences.start) void router.replace(hub.preferences.start)
    opened = false
  },
)
const silence = computed(() => (hub.link === 'lost' ? hub.now - hub.offset - hub.lostSince : 0))
const gone = computed(() => silence.value > 2500) // a hiccup is not worth a banner
</script>

<template>
  <BApp>
    <RouterView v-if="route.meta.open" />
    <div v-else-if="!hub.known" class="p-5 text-center soft" aria-busy="true">Asking the hub …</div>
    <main v-else-if="hub.unreachable" class="page centre">
      <div class="note bad" role="alert">
        <Icon name="away" :size="22" />
        <div><strong>No hub</strong>{{ hub.unreachable }}</div>
      </div>
      <button type="button" class="btn btn-outline-secondary mt-3" @click="hub.begin()">Try again</button>
    </main>
    <FirstStart v-else-if="hub.setupNeeded" />
    <SignIn v-else-if="!hub.me" />
    <RouterView v-else-if="route.meta.bare" />
    <template v-else>
      <a class="visually-hidden-focusable p-2" href="#content">To the content</a>
      <TitleBar />
      <Headline v-if="route.name === 'now'" />
      <div v-if="gone" class="lost" role="alert">
        <Icon name="away" /> <template v-if="hub.full">This page is not live: {{ hub.full }}.</template
        ><template v-else>No connection to the hub for {{ length(silence) }}.</template> Everything below is as it was then; switching is
        not possible.
      </div>
      <div v-if="hub.status?.trouble" class="lost bad" role="alert">
        <Icon name="bell" /> Nothing is stored now: {{ hub.status.trouble }}
      </div>
      <ClockDoubt v-if="hub.status?.clock_doubt" :why="hub.status.clock_doubt" />
      <div id="content"><RouterView :key="String(route.name) + String(route.params.id ?? '')" /></div>
      <TabBar />
      <Announcer />
      <Proof />
    </template>
  </BApp>
</template>

<style scoped>
.centre {
  max-width: 560px;
  padding-top: 60px;
}
.lost {
  background: var(--warn-soft);
  color: var(--warn);
  padding: 9px 20px;
  text-align: center;
  font-weight: 550;
  position: sticky;
  top: 52px;
  z-index: 6;
}
:deep(.lost) .btn,
.lost :deep(.btn) {
  margin: 2px 0 2px 8px;
}
.lost.bad {
  background: color-mix(in srgb, var(--critical) 14%, var(--paper));
  color: var(--critical);
}
</style>
