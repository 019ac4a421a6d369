<script setup lang="ts">
// The presets that one may apply, each one button.
import { computed, ref } from 'vue'
import { sentence, type Preset } from '../api'
import { useHub } from '../hub'
import { Modal, useOnce } from '../once'
import { zonedInstant, zonedText } from '../zoned'

const props = defineProps<{ only?: string }>()
const hub = useHub()
const presets = computed(() => hub.presets.filter((p) => !props.only || p.config.id === props.only))
const asking = ref<Preset | null>(null)
const asked = useOnce(() => !!asking.value)
const said = ref('')
const failed = ref(false)
const until = ref('')
const zone = computed(() => hub.zone)
async function apply(p: Preset) {
  failed.value = false
  const end = p.config.ends ? zonedInstant(until.value, zone.value) : undefined
  try {
    await hub.apply(p.config.id, end === undefined ? undefined : Number.isNaN(end) ? '' : new Date(end).toISOString())
    said.value = `${p.config.name}: done`
    window.setTimeout(() => (said.value = ''), 6000)
  } catch (e) {
    failed.value = true
    said.value = sentence(e)
  }
}
function tap(p: Preset) {
  until.value = zonedText(hub.now + 7 * 86400_000, zone.value).slice(0, 11) + '12:00'
  if (p.config.ask || p.config.ends) asking.value = p
  else void apply(p)
}
</script>

<template>
  <div v-if="presets.length" class="presets" :class="{ 'mb-3': !only }" role="group" aria-label="Presets">
    <button
      v-for="p in presets"
      :key="p.config.id"
      type="button"
      class="btn btn-outline-secondary"
      :disabled="hub.link !== 'live'"
      :data-preset="p.config.id"
      @click="tap(p)">
      {{ p.config.name }}
    </button>
    <span class="small-text" :class="failed ? 'warn-text' : 'soft'" role="status">{{ said }}</span>
    <Modal
      v-if="asked"
      :model-value="!!asking"
      :title="`Apply ${asking?.config.name}?`"
      ok-title="Apply"
      cancel-title="Leave it"
      ok-variant="primary"
      cancel-variant="outline-secondary"
      @update:model-value="
        (v) => {
          if (!v) asking = null
        }
      "
      @ok="apply(asking!)">
      It sets {{ asking?.config.actions.length }} controls and settings at once.
      <label v-if="asking?.config.ends" class="d-block mt-3"
        >Until <input v-model="until" class="form-control" type="datetime-local" required :min="zonedText(hub.now, zone)"
      /></label>
    </Modal>
  </div>
</template>

<style scoped>
.presets {
  display: flex;
  gap: 8px;
  flex-wrap: wrap;
  align-items: center;
}
</style>
