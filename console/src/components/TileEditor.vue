<script setup lang="ts">
// What one tile is and shows. Every change shows at once in the arrangement behind.
import { computed, ref } from 'vue'
import type { Tile } from '../api'
import { about } from '../dashboards'
import { kindName, kindsFor, tileKinds } from '../tiles'
import ThingPicker from './ThingPicker.vue'

const props = defineProps<{
  tile: Tile
  elements: { id: string; what: string }[]
  others: { id: string; name: string }[]
  picked: string
}>()
const emit = defineEmits<{ change: [t: Tile]; copy: [to: string]; pick: [pin: string] }>()
const change = (by: Partial<Tile>) => {
  const next = { ...props.tile, ...by } as Record<string, unknown>
  for (const [k, v] of Object.entries(next)) if (v === undefined || (v === '' && k !== 'text')) delete next[k]
  emit('change', next as unknown as Tile)
}
const kinds = computed(() => kindsFor(props.tile))
const module = computed(() => tileKinds[props.tile.kind])
const more = computed(() => module.value?.kind.more)
const value = (e: Event) => (e.target as HTMLInputElement).value
const adding = ref(false)
const shown = computed(() => ({ tile: props.tile, traces: {}, runs: {}, from: 0, to: 0 }))
</script>

<template>
  <form class="stack tight" @submit.prevent>
    <label v-if="kinds.length > 1"
      ><span class="soft small-text">Shown as</span
      ><select class="form-select form-select-sm" :value="tile.kind" aria-label="Shown as" @change="change({ kind: value($event) })">
        <option v-for="k in kinds" :key="k" :value="k">{{ kindName(k) }}</option>
      </select></label
    >
    <label
      ><span class="soft small-text">Title</span
      ><input
        class="form-control form-control-sm"
        maxlength="80"
        :value="tile.name ?? ''"
        :placeholder="tile.of?.length ? about(tile.of[0]!).name : 'none'"
        @input="change({ name: value($event) })"
    /></label>
    <component
      :is="module.default"
      v-if="module"
      form
      :shown="shown"
      :formed="{ elements, picked }"
      @change="change"
      @pick="emit('pick', $event)" />
    <template v-if="more">
      <ul class="list">
        <li v-for="id in tile.of ?? []" :key="id">
          <span
            >{{ about(id).name }} <span class="soft small-text">{{ about(id).place }}</span></span
          ><button
            type="button"
            class="gone"
            :aria-label="`Take ${about(id).name} out`"
            @click="change({ of: tile.of!.filter((x) => x !== id) })">
            ×
          </button>
        </li>
      </ul>
      <button v-if="!adding" type="button" class="btn btn-outline-secondary btn-sm" @click="adding = true">{{ more.called }}</button>
      <ThingPicker
        v-else
        :kinds="more.of"
        :taken="tile.of"
        @pick="
          (id) => {
            change({ of: more!.one ? [id] : [...(tile.of ?? []), id] })
            adding = false
          }
        " />
    </template>
    <label v-if="others.length"
      ><span class="soft small-text">Copy it to</span
      ><select
        class="form-select form-select-sm"
        aria-label="Copy it to"
        value=""
        @change="
          (e) => {
            emit('copy', value(e))
            ;(e.target as HTMLSelectElement).value = ''
          }
        ">
        <option value="">another dashboard …</option>
        <option v-for="o in others" :key="o.id" :value="o.id">{{ o.name }}</option>
      </select></label
    >
  </form>
</template>

<style scoped>
.list {
  list-style: none;
  margin: 0;
  padding: 0;
}
.list li {
  display: flex;
  justify-content: space-between;
  align-items: center;
  border-bottom: 1px solid var(--line);
}
.gone {
  border: 0;
  background: none;
  color: var(--soft);
  min-width: 40px;
  min-height: 36px;
}
</style>
