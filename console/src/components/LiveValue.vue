<script setup lang="ts">
// A signal's value with its unit. It is a component of its own so that a new reading draws nothing else anew.
import type { Signal } from '../api'
import { shownUnit, shownValue } from '../units'

defineProps<{ signal: Signal }>()
</script>

<template>
  {{ shownValue(signal.state.value, signal.config.unit, signal.config.decimals)
  }}<small v-if="signal.config.unit">{{ ' ' + shownUnit(signal.config.unit) }}</small>
</template>
