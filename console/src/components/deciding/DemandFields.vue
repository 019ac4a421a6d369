<script setup lang="ts">
// One reason in auto to be on, as a guided form.
import { computed } from 'vue'
import type { Control, Demand } from '../../api'
import { demandKinds, demandsFor } from '../../demands'
import { filled } from '../../form'

const props = defineProps<{ control: Control; n: number }>()
const model = defineModel<Demand>({ required: true })
const emit = defineEmits<{ remove: [] }>()
const d = computed(() => model.value)
const module = computed(() => demandKinds[d.value.kind])
const put = (part: Partial<Demand>) => (model.value = filled({ ...model.value, ...part }))
function become(e: Event) {
  const kind = (e.target as HTMLSelectElement).value
  model.value = { kind, ...(d.value.to === undefined ? {} : { to: d.value.to }), ...demandKinds[kind]!.kind.fresh(d.value) } as Demand
}
const full = computed(() => ({ level: '100 %', switch: 'on', choice: 'the last option', mover: 'open' })[props.control.config.kind])
</script>

<template>
  <fieldset class="inset stack tight">
    <legend class="small-text">
      {{ n === 1 ? 'It asks to run' : 'or' }} <span class="soft">{{ module?.kind.title }}</span>
    </legend>
    <div class="fields">
      <label class="wide"
        ><span class="soft small-text">How</span
        ><select class="form-select form-select-sm" :value="d.kind" :aria-label="`Demand ${n}`" @change="become">
          <option v-if="!module" :value="d.kind">{{ d.kind }}</option>
          <option v-for="k in demandsFor(control)" :key="k.value" :value="k.value">{{ k.text }}</option>
        </select></label
      >
      <label v-if="control.config.kind === 'level' && !module?.kind.levels" class="short"
        ><span class="soft small-text">At level, %</span
        ><input
          class="form-control form-control-sm"
          type="number"
          min="0"
          max="100"
          :placeholder="full"
          :value="d.to"
          @input="
            put({ to: ($event.target as HTMLInputElement).value === '' ? undefined : Number(($event.target as HTMLInputElement).value) })
          "
      /></label>
      <label v-if="control.config.kind === 'choice'" class="short"
        ><span class="soft small-text">To</span
        ><select
          class="form-select form-select-sm"
          :value="d.to ?? (control.state.words?.length ?? 1) - 1"
          @change="put({ to: Number(($event.target as HTMLSelectElement).value) })">
          <option v-for="(o, i) in control.state.words" :key="o" :value="i">{{ o }}</option>
        </select></label
      >
    </div>
    <component :is="module.default" v-if="module" v-model="model" />
    <div class="fields">
      <label class="check"
        ><input
          type="checkbox"
          class="form-check-input"
          :checked="d.floor"
          @change="put({ floor: ($event.target as HTMLInputElement).checked || undefined })" />
        protects, as from frost: holds even when a preset switched off</label
      >
      <button type="button" class="btn btn-outline-secondary btn-sm" @click="emit('remove')">Remove</button>
    </div>
  </fieldset>
</template>

<style scoped>
.wide {
  flex: 1 1 260px !important;
}
legend {
  margin: 0;
}
.check {
  display: flex !important;
  gap: 8px;
  align-items: center;
  flex: 1 1 240px !important;
}
</style>
