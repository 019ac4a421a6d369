<script setup lang="ts">
import { computed, ref } from 'vue'
import { clockText } from '../format'
import { useHub } from '../hub'
import { pagesFor } from '../pages'
import HelpDrawer from './HelpDrawer.vue'
import Mark from './Mark.vue'

const hub = useHub()
const helping = ref(false)
const pages = computed(() => pagesFor(hub.me?.role))
const link = computed(() => ({ live: 'live', connecting: 'connecting', lost: 'no connection' })[hub.link])
const clock = computed(() => clockText(hub.now, hub.zone))
const initials = computed(() => (hub.me?.name ?? '').slice(0, 2).toUpperCase())
</script>

<template>
  <header class="bar">
    <RouterLink class="name" to="/"
      ><Mark /><span>{{ hub.status?.name ?? 'Idle Ember' }}</span></RouterLink
    >
    <nav class="pages" aria-label="Pages">
      <RouterLink v-for="p in pages.filter((x) => x.name !== 'settings')" :key="p.name" :to="{ name: p.name }">{{ p.title }}</RouterLink>
    </nav>
    <div class="right">
      <span class="link soft" :class="hub.link" role="status"><i></i>{{ link }}</span>
      <time class="clock" :title="`The hub's time (${hub.zone})`">{{ clock }}</time>
      <button type="button" class="ask" aria-label="Help for this page" title="Help (?)" @click="helping = true">?</button>
      <RouterLink class="me" :to="{ name: 'settings' }" :aria-label="`${hub.me?.name}: settings and sign-out`" :title="hub.me?.name">{{
        initials
      }}</RouterLink>
    </div>
    <HelpDrawer v-model="helping" />
  </header>
</template>

<style scoped>
.bar {
  position: sticky;
  top: 0;
  z-index: 8;
  height: 52px;
  display: flex;
  align-items: center;
  gap: 28px;
  padding: 0 max(20px, calc((100vw - 1240px) / 2 + 20px));
  background: var(--paper);
  border-bottom: 1px solid var(--line);
}
.name {
  display: flex;
  gap: 10px;
  align-items: center;
  color: inherit;
  text-decoration: none;
  font-weight: 700;
  white-space: nowrap;
  min-width: 0;
}
.name span {
  overflow: hidden;
  text-overflow: ellipsis;
}
.pages {
  display: flex;
  gap: 4px;
  height: 100%;
}
.pages a {
  display: flex;
  align-items: center;
  padding: 0 10px;
  color: var(--soft);
  text-decoration: none;
  border-bottom: 2px solid transparent;
  border-top: 2px solid transparent;
}
.pages a:hover {
  color: var(--ink);
}
.pages a.router-link-active:not([href='/']),
.pages a.router-link-exact-active {
  color: var(--ink);
  font-weight: 600;
  border-bottom-color: var(--ember);
}
.right {
  margin-left: auto;
  display: flex;
  align-items: center;
  gap: 14px;
  white-space: nowrap;
}
.link {
  display: flex;
  align-items: center;
  gap: 7px;
}
.link i {
  width: 7px;
  height: 7px;
  border-radius: 50%;
  border: 1.5px solid var(--soft);
}
.link.live i {
  background: var(--well);
  border-color: var(--well);
}
.link.lost {
  color: var(--warn);
  font-weight: 600;
}
.link.lost i {
  border-color: var(--warn);
  border-style: dashed;
}
.clock {
  font-weight: 650;
}
.me {
  width: 28px;
  height: 28px;
  border: 1px solid var(--line);
  border-radius: 50%;
  display: grid;
  place-items: center;
  font-size: 0.7rem;
  font-weight: 700;
  color: var(--soft);
  text-decoration: none;
  position: relative;
}
.ask {
  width: 28px;
  height: 28px;
  border: 0;
  background: none;
  color: var(--soft);
  font-weight: 700;
  position: relative;
}
.ask::after {
  content: '';
  position: absolute;
  inset: -8px;
}
.me::after {
  content: '';
  position: absolute;
  inset: -9px;
}
@media (max-width: 820px) {
  .bar {
    padding: 0 14px;
    gap: 10px;
  }
  .right {
    gap: 9px;
  }
  .ask {
    width: 18px;
    padding: 0;
  }
  .pages {
    display: none;
  }
}
</style>
