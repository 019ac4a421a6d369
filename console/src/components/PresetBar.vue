<script setup lang="ts">
// The presets that one may apply, each one button.
import { BModal } from 'bootstrap-vue-next/components/BModal'
import { ref } from 'vue'
import { sentence, type Preset } from '../api'
import { useHub } from '../hub'

const hub = useHub()
const asking = ref<Preset | null>(null)
const said = ref('')
const failed = ref(false)
async function apply(p: Preset) {
  failed.value = false
  try {
    await hub.apply(p.config.id)
    said.value = `${p.config.name}: done`
    window.setTimeout(() => (said.value = ''), 6000)
  } catch (e) {
    failed.value = true
    said.value = sentence(e)
  }
}
function tap(p: Preset) {
  if (p.config.ask) asking.value = p
  else void apply(p)
}
</script>

<template>
  <div v-if="hub.presets.length" class="presets mb-3" role="group" aria-label="Presets">
    <button v-for="p in hub.presets" :key="p.config.id" type="button" class="btn btn-outline-secondary" :disabled="hub.link !== 'live'" :data-preset="p.config.id" @click="tap(p)">{{ p.config.name }}</button>
    <span class="small-text" :class="failed ? 'warn-text' : 'soft'" role="status">{{ said }}</span>
    <BModal :model-value="!!asking" :title="`Apply ${asking?.config.name}?`" ok-title="Apply" cancel-title="Leave it" ok-variant="primary" cancel-variant="outline-secondary"
      @update:model-value="(v) => { if (!v) asking = null }" @ok="apply(asking!)">
      It sets {{ asking?.config.actions.length }} controls and settings at once.
    </BModal>
  </div>
</template>

<style scoped>
.presets { display: flex; gap: 8px; flex-wrap: wrap; align-items: center; }
</style>
