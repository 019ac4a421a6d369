<script setup lang="ts">
// A labelled field with its hint and its error.
defineProps<{ label: string; id: string; hint?: string; error?: string }>()
</script>

<template>
  <div class="field">
    <label class="form-label" :for="id">{{ label }}</label>
    <slot />
    <div v-if="error" class="error small-text" role="alert">{{ error }}</div>
    <div v-else-if="hint" class="soft small-text hint">{{ hint }}</div>
  </div>
</template>

<style scoped>
.field {
  min-width: 0;
}
.error {
  color: var(--critical);
  margin-top: 4px;
}
.hint {
  margin-top: 4px;
}
</style>
