<script setup lang="ts">
// What needs a person: what it is, since when, what it means, and where to tap. Nothing where all is well.
import { computed, ref } from 'vue'
import { attention, useAttention } from '../attention'
import Icon from './Icon.vue'

const props = defineProps<{ places?: string[]; empty?: string }>() // of these places alone; what to say where all is well
const all = ref(false)
const few = 3
const items = computed(() => (props.places ? attention(props.places) : useAttention().items))
const shown = computed(() => (all.value ? items.value : items.value.slice(0, few)))
</script>

<template>
  <section v-if="items.length" class="note attention mb-3" aria-label="Needs attention" role="status">
    <Icon name="bell" :size="20" />
    <div>
      <div v-for="i in shown" :key="i.key"><component :is="i.to ? 'RouterLink' : 'span'" v-bind="i.to ? { to: i.to } : {}"><strong>{{ i.what }}</strong></component> <span class="small-text">{{ i.words }}</span></div>
      <button v-if="items.length > few" type="button" class="small-text" @click="all = !all">{{ all ? 'The first ones only' : `and ${items.length - few} more` }}</button>
    </div>
  </section>
  <p v-else-if="empty" class="soft mb-0" role="status">{{ empty }}</p>
</template>

<style scoped>
.attention { align-items: flex-start; }
.attention strong { display: inline; }
.attention a, .attention button { color: inherit; text-underline-offset: 3px; }
.attention div > div + div { margin-top: 4px; }
.attention button { border: 0; background: none; padding: 4px 0; text-decoration: underline; min-height: 32px; }
</style>
