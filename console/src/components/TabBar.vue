<script setup lang="ts">
// The bottom bar of a phone: four pages and the rest behind More.
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { useHub } from '../hub'
import { Drawer, useOnce } from '../once'
import { pagesFor } from '../pages'
import Icon from './Icon.vue'
import Mark from './Mark.vue'

const hub = useHub()
const route = useRoute()
const open = ref(false)
const used = useOnce(() => open.value)
const pages = computed(() => pagesFor(hub.me?.role))
const bar = computed(() => (pages.value.length > 5 ? pages.value.slice(0, 4) : pages.value))
const rest = computed(() => pages.value.slice(bar.value.length))
watch(
  () => route.fullPath,
  () => (open.value = false),
)
</script>

<template>
  <nav class="tabs" aria-label="Pages">
    <RouterLink v-for="p in bar" :key="p.name" :to="{ name: p.name }">
      <Mark v-if="p.icon === 'mark'" /><Icon v-else :name="p.icon" :size="21" /><span>{{ p.title }}</span>
    </RouterLink>
    <button v-if="rest.length" type="button" :aria-expanded="open" @click="open = true">
      <Icon name="more" :size="21" /><span>More</span>
    </button>
  </nav>
  <Drawer v-if="used" v-model="open" placement="bottom" title="More" class="more">
    <RouterLink v-for="p in rest" :key="p.name" class="entry" :to="{ name: p.name }"
      ><Icon v-if="p.icon !== 'mark'" :name="p.icon" /> {{ p.title }}</RouterLink
    >
    <button type="button" class="entry" @click="hub.leave()"><Icon name="out" /> Sign out</button>
  </Drawer>
</template>

<style scoped>
.tabs {
  display: none;
}
.entry {
  display: flex;
  gap: 14px;
  align-items: center;
  min-height: 48px;
  width: 100%;
  border: 0;
  background: none;
  color: inherit;
  text-decoration: none;
}
@media (max-width: 820px) {
  .tabs {
    position: fixed;
    z-index: 8;
    bottom: 0;
    left: 0;
    right: 0;
    display: flex;
    background: var(--sheet);
    border-top: 1px solid var(--line);
    padding-bottom: env(safe-area-inset-bottom);
  }
  .tabs > * {
    flex: 1;
    display: grid;
    justify-items: center;
    gap: 3px;
    padding: 8px 2px 7px;
    border: 0;
    background: none;
    color: var(--soft);
    text-decoration: none;
    font-size: 0.72rem;
    min-height: 56px;
  }
  .tabs .router-link-exact-active,
  .tabs .router-link-active:not([href='/']) {
    color: var(--ember);
    font-weight: 650;
  }
}
</style>
