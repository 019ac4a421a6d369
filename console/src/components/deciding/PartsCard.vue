<script setup lang="ts" generic="T extends { id: string; name: string }">
// A list of things that are kept as a whole, with a form to add and change one.
import { ref, type Ref } from 'vue'
import { useSend } from '../../form'
import { useHub } from '../../hub'

const props = defineProps<{
  title: string
  one: string
  about: string
  list: { version?: string; config: T }[]
  fresh: () => T
  save: (x: T, version: string | undefined) => Promise<unknown>
  remove: (id: string) => Promise<unknown>
}>()
const emit = defineEmits<{ changed: [] }>()
defineSlots<{ line(p: { item: T; index: number }): unknown; form(p: { item: T; isNew: boolean }): unknown }>()
const hub = useHub()
const draft = ref(null) as Ref<T | null>
const version = ref<string>()
const isNew = ref(false)
const { failed, busy, send } = useSend()
function edit(x: { version?: string; config: T } | null) {
  draft.value = JSON.parse(JSON.stringify(x?.config ?? props.fresh()))
  version.value = x?.version
  isNew.value = !x
}
async function submit() {
  if (await send(() => props.save(JSON.parse(JSON.stringify(draft.value)), version.value))) {
    draft.value = null
    emit('changed')
  }
}
async function drop() {
  if (await send(() => props.remove(draft.value!.id))) {
    draft.value = null
    emit('changed')
  }
}
</script>

<template>
  <section class="sheet" :data-parts="one">
    <div class="between">
      <h2>{{ title }}</h2>
      <button v-if="hub.owner && !draft" type="button" class="btn btn-outline-secondary btn-sm" @click="edit(null)">Add a {{ one }}</button>
    </div>
    <p v-if="!list.length && !draft" class="soft small-text mb-0">{{ about }}</p>
    <div v-for="(x, i) in list" :key="x.config.id" class="line">
      <div class="what">
        <strong>{{ x.config.name }}</strong> <span class="soft small-text">{{ x.config.id }}</span>
        <div class="small-text"><slot name="line" :item="x.config" :index="i" /></div>
      </div>
      <button v-if="hub.owner" type="button" class="btn btn-outline-secondary btn-sm" @click="edit(x)">Change</button>
    </div>
    <form v-if="draft" class="inset stack tight mt-2" @submit.prevent="submit">
      <div class="fields">
        <label
          ><span class="soft small-text">Name</span
          ><input v-model="draft.name" class="form-control form-control-sm" required maxlength="200"
        /></label>
      </div>
      <slot name="form" :item="draft" :is-new="isNew" />
      <p v-if="failed" class="note bad small-text mb-0" role="alert">{{ failed }}</p>
      <div class="d-flex gap-2 flex-wrap">
        <button class="btn btn-primary btn-sm" :disabled="busy">Save</button
        ><button type="button" class="btn btn-outline-secondary btn-sm" @click="draft = null">Leave it</button>
        <button v-if="!isNew" type="button" class="btn btn-outline-secondary btn-sm ms-auto" @click="drop">Take it away</button>
      </div>
    </form>
  </section>
</template>
