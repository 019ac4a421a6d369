<script setup lang="ts">
// Views of charts that have a name: one's own and shared ones. A view is what stands in the address.
import { BDropdown } from 'bootstrap-vue-next/components/BDropdown'
import { onMounted, ref } from 'vue'
import { keepPart, listParts, removePart, type View } from '../api'
import { useSend } from '../form'
import { useHub } from '../hub'
import Icon from './Icon.vue'

const props = defineProps<{ view: string }>()
const emit = defineEmits<{ open: [view: string] }>()
const hub = useHub()
const views = ref<View[]>([])
const name = ref('')
const shared = ref(false)
const { failed, busy, send } = useSend()

const load = () => send(async () => (views.value = await listParts<View>('views')))
onMounted(load)
async function save() {
  const had = views.value.find((v) => v.state.mine && v.config.name === name.value) // of the same name: it is replaced
  const done = await send(() =>
    keepPart('views', { id: had?.config.id ?? '', name: name.value, view: props.view, shared: shared.value }, had?.version),
  )
  if (!done) return
  name.value = ''
  await load()
}
async function remove(v: View) {
  if (await send(() => removePart('views', v.config.id!))) await load()
}
</script>

<template>
  <BDropdown text="Views" variant="outline-secondary" menu-class="views" auto-close="outside">
    <li v-for="v in views" :key="v.config.id" class="d-flex">
      <button type="button" class="dropdown-item" :class="{ active: v.config.view === view }" @click="emit('open', v.config.view)">
        {{ v.config.name }}<span v-if="!v.state.mine" class="soft small-text"> · {{ v.state.by }}</span
        ><span v-else-if="v.config.shared" class="soft small-text"> · shared</span>
      </button>
      <button
        v-if="v.state.mine || hub.owner"
        type="button"
        class="gone"
        :aria-label="`Take the view ${v.config.name} away`"
        @click="remove(v)">
        <Icon name="x" :size="11" />
      </button>
    </li>
    <li v-if="!views.length" class="px-3 py-1 soft small-text">No view has a name yet. Save what you see now, and find it here again.</li>
    <li>
      <form class="px-3 pt-2" @submit.prevent="save">
        <input
          v-model="name"
          class="form-control form-control-sm"
          aria-label="Name of this view"
          placeholder="Name of this view"
          required
          maxlength="80" />
        <label class="d-flex gap-2 my-2 small-text"
          ><input v-model="shared" class="form-check-input mt-0" type="checkbox" /> for everybody in the household</label
        >
        <button class="btn btn-primary btn-sm" :disabled="busy || !view">Save this view</button>
        <p v-if="failed" class="note bad small-text mt-2 mb-0" role="alert">{{ failed }}</p>
      </form>
    </li>
  </BDropdown>
</template>

<style scoped>
:deep(.views) {
  min-width: 270px;
  background: var(--sheet);
}
.gone {
  border: 0;
  background: none;
  color: var(--soft);
  min-width: 40px;
}
.dropdown-item.active {
  background: var(--paper);
  color: var(--ink);
  font-weight: 600;
}
</style>
