<script setup lang="ts">
// A device's key and what to paste, shown once, waiting for the first message.
import { computed, ref } from 'vue'
import type { DeviceWithKey } from '../api'
import { useTraffic } from '../traffic'
import Icon from './Icon.vue'

const props = defineProps<{ given: DeviceWithKey }>()
const copied = ref('')
const { messages } = useTraffic(props.given.device.config.id)
const fresh = computed(() => messages.value.filter((m) => !m.out && Date.parse(m.at) > begun))
const first = computed(() => [...fresh.value].reverse().find((m) => !m.refused) ?? fresh.value.at(-1))
const begun = Date.now() - 5000

async function copy(text: string) {
  try {
    await navigator.clipboard.writeText(text)
    copied.value = text
  } catch {
    copied.value = '' // over plain HTTP browsers may forbid it; the text can be selected
  }
}
const rows = computed(() => [
  { label: 'Key, shown this once', value: props.given.key },
  ...props.given.connect.rows,
  ...props.given.connect.examples,
])
</script>

<template>
  <section class="sheet">
    <h2>{{ given.device.config.name }}: connect its board</h2>
    <div v-for="r in given.remarks" :key="r" class="note mt-2">{{ r }}</div>
    <p role="status" class="arrival" :class="first ? (first.refused ? 'warn-text' : '') : 'soft'">
      <template v-if="first"
        ><strong>{{ first.refused ? 'A message arrived and was refused:' : 'The first message arrived:' }}</strong> {{ first.result
        }}<br /><code>{{ first.topic }} {{ first.payload }}</code></template
      >
      <template v-else>Waiting for the device's first message …</template>
    </p>
    <p v-if="given.connect.remark" class="note mt-2 mb-0">{{ given.connect.remark }}</p>
    <dl>
      <div v-for="{ label, value: text } in rows" :key="label">
        <dt class="soft small-text">{{ label }}</dt>
        <dd>
          <code>{{ text }}</code><button type="button" class="copy" :aria-label="`Copy: ${label}`" @click="copy(text)">
            <Icon name="copy" :size="15" /><span v-if="copied === text" class="small-text">copied</span>
          </button>
        </dd>
      </div>
    </dl>
  </section>
</template>

<style scoped>
.arrival {
  margin: 10px 0 0;
  padding: 10px 14px;
  border: 1px solid var(--line);
  border-radius: 10px;
}
dl {
  margin: 12px 0 0;
}
dl > div {
  display: grid;
  grid-template-columns: 170px minmax(0, 1fr);
  gap: 2px 16px;
  align-items: center;
  padding: 2px 0;
  border-bottom: 1px solid var(--line);
}
dt {
  font-weight: 400;
}
dd {
  margin: 0;
  display: flex;
  gap: 8px;
  align-items: center;
  justify-content: space-between;
}
.copy {
  border: 0;
  background: none;
  color: var(--soft);
  min-width: 36px;
  min-height: 30px;
  display: flex;
  gap: 6px;
  align-items: center;
}
@media (max-width: 820px) {
  dl > div {
    grid-template-columns: minmax(0, 1fr);
    padding: 6px 0;
  }
  .copy {
    min-width: 44px;
    min-height: 44px;
    justify-content: center;
  }
}
</style>
