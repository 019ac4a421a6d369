<script setup lang="ts">
// A device's key and what to paste, shown once, waiting for the first message.
import { computed, ref } from 'vue'
import type { DeviceWithKey } from '../api'
import { unitSign, valueText } from '../format'
import { useHub } from '../hub'
import Icon from './Icon.vue'

const props = defineProps<{ given: DeviceWithKey }>()
const hub = useHub()
const copied = ref('')
const arrived = computed(() => Object.values(hub.signals).filter((s) => s.device === props.given.device.id && s.value !== undefined))

async function copy(text: string) {
  try {
    await navigator.clipboard.writeText(text)
    copied.value = text
  } catch {
    copied.value = '' // over plain HTTP browsers may forbid it; the text can be selected
  }
}
const rows = computed(() => [{ label: 'Key, shown this once', value: props.given.key }, ...props.given.connect.rows, ...props.given.connect.examples])
</script>

<template>
  <section class="sheet">
    <h2>{{ given.device.name }}: connect its board</h2>
    <p v-if="given.connect.remark" class="note mt-2 mb-0">{{ given.connect.remark }}</p>
    <dl>
      <div v-for="{ label, value: text } in rows" :key="label">
        <dt class="soft small-text">{{ label }}</dt>
        <dd><code>{{ text }}</code><button type="button" class="copy" :aria-label="`Copy: ${label}`" @click="copy(text)"><Icon name="copy" :size="15" /><span v-if="copied === text" class="small-text">copied</span></button></dd>
      </div>
    </dl>
    <p role="status" class="mb-0" :class="arrived.length ? '' : 'soft'">
      <template v-if="arrived.length"><strong>The first message arrived:</strong> {{ arrived.map((s) => `${s.name} ${valueText(s.value, s.decimals)} ${unitSign(s.unit)}`.trim()).join(', ') }}</template>
      <template v-else>Waiting for the board's first message …</template>
    </p>
  </section>
</template>

<style scoped>
dl { margin: 12px 0; }
dl > div { padding: 6px 0; border-bottom: 1px solid var(--line); }
dt { font-weight: 400; }
dd { margin: 0; display: flex; gap: 8px; align-items: start; justify-content: space-between; }
.copy { border: 0; background: none; color: var(--soft); min-width: 36px; min-height: 30px; display: flex; gap: 6px; align-items: center; }
</style>
