<script setup lang="ts">
// What a series takes on the disk, and for how long an owner wants it kept.
import { computed, onMounted, reactive, ref } from 'vue'
import { api, ask, keepPart, type Signal, type Storage } from '../api'
import { num, useSend } from '../form'
import { dayText, size } from '../format'
import { useHub } from '../hub'

const props = defineProps<{ series: string; signal?: Signal }>()
const hub = useHub()
const kept = ref<Storage['series'][number]>()
const { failed, saved, busy, send } = useSend()
const day = 24 * 3600_000
const days = (ms: number | undefined) => (ms ? String(ms / day) : '')
const form = reactive({ readings: days(props.signal?.config.keep.readings_ms), sums: days(props.signal?.config.keep.sums_ms) })
const words = computed(() => {
  const k = props.signal?.config.keep
  if (!k?.readings_ms) return 'kept for ever'
  return `readings kept for ${days(k.readings_ms)} days, sums of hours ${k.sums_ms ? `for ${days(k.sums_ms)} days` : 'for ever'}`
})

onMounted(async () => {
  kept.value = (await ask(api.GET('/storage')).catch(() => null))?.series.find((s) => s.series === props.series)
})
const save = () =>
  send(() =>
    keepPart(
      'signals',
      { ...props.signal!.config, keep: { readings_ms: (num(form.readings) ?? 0) * day, sums_ms: (num(form.sums) ?? 0) * day } },
      props.signal!.version,
    ),
  )
</script>

<template>
  <p v-if="kept" class="mb-1">
    {{ kept.count.toLocaleString('en-GB') }} readings since {{ dayText(Date.parse(kept.from), hub.zone) }} take {{ size(kept.bytes) }} on
    the disk<template v-if="kept.count">, {{ (kept.bytes / kept.count).toFixed(2) }} bytes each</template
    ><template v-if="signal">; {{ words }}</template
    >.
  </p>
  <details v-if="hub.owner && signal" class="no-print">
    <summary>Change for how long</summary>
    <form class="fields" @submit.prevent="save">
      <label class="short"
        ><span>Readings, days</span
        ><input v-model="form.readings" class="form-control form-control-sm" type="number" min="1" placeholder="for ever"
      /></label>
      <label class="short"
        ><span>Sums of hours, days</span
        ><input
          v-model="form.sums"
          class="form-control form-control-sm"
          type="number"
          min="1"
          placeholder="for ever"
          :disabled="!form.readings"
      /></label>
      <button class="btn btn-outline-secondary btn-sm" :disabled="busy">Save</button>
    </form>
    <p class="soft small-text mb-0 mt-1">Older readings are let go for good; charts then show the sums of their hours.</p>
    <p v-if="failed" class="note bad small-text" role="alert">{{ failed }}</p>
    <p v-else-if="saved" class="soft small-text mb-0" role="status">Saved.</p>
  </details>
</template>
