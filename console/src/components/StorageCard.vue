<script setup lang="ts">
// What the hub keeps, and how much it wrote to its disk.
import { computed, onMounted, ref } from 'vue'
import { api, ask, sentence, type Storage } from '../api'
import { dayText, size } from '../format'
import { useHub } from '../hub'

const hub = useHub()
const storage = ref<Storage | null>(null)
const failed = ref('')
const all = ref(false)
onMounted(async () => {
  try {
    storage.value = await ask(api.GET('/storage'))
  } catch (e) {
    failed.value = sentence(e)
  }
})
const list = computed(() => [...(storage.value?.series ?? [])].sort((a, b) => b.bytes - a.bytes))
const shown = computed(() => (all.value ? list.value : list.value.slice(0, 8)))
</script>

<template>
  <section class="sheet" aria-label="Storage">
    <h2>Storage</h2>
    <p v-if="failed" class="note bad small-text" role="alert">{{ failed }}</p>
    <p v-else-if="!storage" class="soft">…</p>
    <template v-else>
      <p>
        The database has {{ size(storage.database_bytes) }}; {{ size(storage.recorded_bytes) }} of it are recorded input, of which the last
        48 hours stay, {{ size(storage.recorded_most) }} at most.<template v-if="storage.written_bytes !== undefined"
          >{{ ' ' + size(storage.written_bytes) }} were written to the disk since
          {{ dayText(Date.parse(storage.since), hub.zone) }}.</template
        >
      </p>
      <div class="scroll" tabindex="0" role="region" aria-label="What is kept">
        <table class="table">
          <thead>
            <tr>
              <th>Series</th>
              <th class="num">Readings</th>
              <th class="num">Size</th>
              <th class="since">Since</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="x in shown" :key="x.series">
              <td>
                <RouterLink :to="{ name: 'signal', params: { id: x.series } }">{{ x.name }}</RouterLink>
                {{ ' ' }}<span class="soft small-text">{{ x.series }}</span>
              </td>
              <td class="num">{{ x.count.toLocaleString('en-GB') }}</td>
              <td class="num">{{ size(x.bytes) }}</td>
              <td class="since">{{ dayText(Date.parse(x.from), hub.zone) }}</td>
            </tr>
          </tbody>
        </table>
      </div>
      <button v-if="list.length > 8" type="button" class="btn btn-outline-secondary btn-sm" @click="all = !all">
        {{ all ? 'The largest only' : `All ${list.length}` }}
      </button>
    </template>
  </section>
</template>

<style scoped>
.scroll {
  overflow-x: auto;
}
.since {
  white-space: nowrap;
}
@media (max-width: 520px) {
  .since {
    display: none;
  }
}
</style>
