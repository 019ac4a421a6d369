<script setup lang="ts">
// What needs a person: what it is, since when, what it means, and where to tap. Nothing where all is well.
import { computed, ref } from 'vue'
import { attention, useAttention } from '../attention'
import { useHub } from '../hub'
import Icon from './Icon.vue'

const props = defineProps<{ tile?: boolean; places?: string[] }>() // as a tile it says what it looks at; of these places alone
const hub = useHub()
const all = ref(false)
const few = 3
const items = computed(() => (props.tile ? attention(props.places, true) : useAttention().items))
const where = computed(() => {
  const names = (props.places ?? []).map((id) => hub.places.find((p) => p.id === id)?.name ?? id)
  if (names.length) return `All is well in ${names.join(', ')}, and nothing is critical elsewhere.`
  return hub.me?.role === 'guest' ? 'All is well in what is open to you.' : 'All is well in all places.'
})
const quiet = computed(
  () => Object.values(hub.alerts).filter((a) => a.state.phase === 'shelved' || a.state.phase === 'out_of_service').length,
)
const shown = computed(() => (all.value ? items.value : items.value.slice(0, few)))
</script>

<template>
  <section v-if="items.length" class="note attention mb-3" aria-label="Needs attention" role="status">
    <Icon name="bell" :size="20" />
    <div>
      <div v-for="i in shown" :key="i.key">
        <component :is="i.to ? 'RouterLink' : 'span'" v-bind="i.to ? { to: i.to } : {}"
          ><strong>{{ i.what }}</strong></component
        >
        {{ ' ' }}<span class="small-text">{{ i.words }}</span>
      </div>
      <button v-if="items.length > few" type="button" class="small-text" @click="all = !all">
        {{ all ? 'The first ones only' : `and ${items.length - few} more` }}
      </button>
    </div>
  </section>
  <p v-else-if="tile" class="soft mb-0" role="status">{{ where }}</p>
  <p v-if="tile && quiet" class="soft small-text mb-0">
    {{ quiet === 1 ? '1 alert is' : `${quiet} alerts are` }} shelved or out of service.
  </p>
</template>

<style scoped>
.attention {
  align-items: flex-start;
}
.attention strong {
  display: inline;
}
.attention a,
.attention button {
  color: inherit;
  text-underline-offset: 3px;
}
.attention div > div + div {
  margin-top: 4px;
}
.attention button {
  border: 0;
  background: none;
  padding: 4px 0;
  text-decoration: underline;
  min-height: 32px;
}
</style>
