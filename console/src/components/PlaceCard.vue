<script setup lang="ts">
// What an owner wrote down about a place: words, and dates with their age.
import { ref, watch } from 'vue'
import { patchPart, type Fact, type Place } from '../api'
import { pictureAt, upload } from '../dashboards'
import { useSend } from '../form'
import { clockText, dayAge } from '../format'
import { useHub } from '../hub'

const props = defineProps<{ place: Place }>()
const hub = useHub()
const editing = ref(false)
const name = ref('')
const facts = ref<Fact[]>([])
const { failed, busy, send } = useSend()
watch(editing, () => {
  name.value = props.place.name
  facts.value = (props.place.facts ?? []).map((f) => ({ ...f }))
  if (!facts.value.length) facts.value.push({ name: '' })
})
async function save() {
  const said = facts.value
    .filter((f) => f.name.trim() || f.text || f.date)
    .map((f) => ({ name: f.name.trim(), ...(f.text ? { text: f.text } : {}), ...(f.date ? { date: f.date } : {}) }))
  if (await send(() => patchPart('places', props.place.id, { name: name.value, facts: said }))) editing.value = false
}
async function picture(e: Event) {
  const file = (e.target as HTMLInputElement).files?.[0]
  if (file)
    await send(async () => {
      const got = await upload(file)
      await patchPart('places', props.place.id, { picture: got.id })
    })
}
const noPicture = () => send(() => patchPart('places', props.place.id, { picture: '' }))
const day = (d: string) => clockText(Date.parse(d + 'T12:00:00Z'), 'UTC', { day: 'numeric', month: 'short', year: 'numeric' })
</script>

<template>
  <section class="sheet" aria-label="About this place">
    <div class="between">
      <h2>About it</h2>
      <button v-if="hub.owner && !editing" type="button" class="btn btn-outline-secondary btn-sm no-print" @click="editing = true">
        Change
      </button>
    </div>
    <img v-if="place.picture" class="picture mt-2" :src="pictureAt(place.picture)" :alt="place.name" />
    <template v-if="!editing">
      <dl v-if="place.facts?.length" class="facts mb-0 mt-2">
        <div v-for="f in place.facts" :key="f.name">
          <dt class="soft small-text">{{ f.name }}</dt>
          <dd>
            {{ f.text
            }}<template v-if="f.date"
              >{{ f.text ? ', ' : '' }}{{ day(f.date) }} <span class="soft">{{ dayAge(f.date, hub.now) }}</span></template
            >
          </dd>
        </div>
      </dl>
      <p v-else class="soft small-text mb-0 mt-1">
        {{
          hub.owner
            ? 'Write down what one looks for here: the clay’s batch, when the filter was changed, where the fuse is.'
            : 'Nothing is written down about it.'
        }}
      </p>
    </template>
    <form v-else class="mt-2" @submit.prevent="save">
      <label class="d-block mb-2"
        ><span class="soft small-text">Name of the place</span
        ><input v-model="name" class="form-control form-control-sm" required maxlength="80"
      /></label>
      <div v-for="(f, i) in facts" :key="i" class="fields mb-2">
        <label class="short"
          ><span>What</span><input v-model="f.name" class="form-control form-control-sm" maxlength="60" placeholder="filter"
        /></label>
        <label
          ><span>Words</span><input v-model="f.text" class="form-control form-control-sm" maxlength="300" placeholder="paper, size 3"
        /></label>
        <label class="short"><span>Date</span><input v-model="f.date" class="form-control form-control-sm" type="date" /></label>
        <button type="button" class="gone" :aria-label="`Take ${f.name || 'it'} away`" @click="facts.splice(i, 1)">×</button>
      </div>
      <label class="d-block mb-2"
        ><span class="soft small-text">{{ place.picture ? 'Another picture' : 'A picture' }} (JPEG, PNG or SVG, up to 4 MB)</span
        ><input class="form-control form-control-sm" type="file" accept="image/png,image/jpeg,image/svg+xml" @change="picture"
      /></label>
      <button v-if="place.picture" type="button" class="btn btn-outline-secondary btn-sm mb-2" @click="noPicture">No picture</button>
      <div class="d-flex gap-2">
        <button type="button" class="btn btn-outline-secondary btn-sm" :disabled="facts.length >= 12" @click="facts.push({ name: '' })">
          One more</button
        ><button class="btn btn-primary btn-sm" :disabled="busy">Save</button
        ><button type="button" class="btn btn-outline-secondary btn-sm" @click="editing = false">Leave it</button>
      </div>
      <p v-if="failed" class="note bad small-text mt-2 mb-0" role="alert">{{ failed }}</p>
    </form>
  </section>
</template>

<style scoped>
dd {
  margin: 0;
}
.picture {
  width: 100%;
  max-height: 260px;
  object-fit: cover;
  border-radius: 10px;
}
.gone {
  border: 0;
  background: none;
  color: var(--soft);
  min-width: 40px;
  min-height: 36px;
}
</style>
