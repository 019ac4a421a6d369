<script setup lang="ts">
import bell from 'bootstrap-icons/icons/exclamation-triangle.svg?raw'
import back from 'bootstrap-icons/icons/chevron-left.svg?raw'
import forth from 'bootstrap-icons/icons/chevron-right.svg?raw'
import tiles from 'bootstrap-icons/icons/columns-gap.svg?raw'
import graph from 'bootstrap-icons/icons/graph-up.svg?raw'
import board from 'bootstrap-icons/icons/cpu.svg?raw'
import book from 'bootstrap-icons/icons/journal-text.svg?raw'
import dial from 'bootstrap-icons/icons/toggles.svg?raw'
import more from 'bootstrap-icons/icons/three-dots.svg?raw'
import people from 'bootstrap-icons/icons/people.svg?raw'
import gear from 'bootstrap-icons/icons/sliders2.svg?raw'
import out from 'bootstrap-icons/icons/box-arrow-right.svg?raw'
import plus from 'bootstrap-icons/icons/plus-lg.svg?raw'
import copy from 'bootstrap-icons/icons/copy.svg?raw'
import x from 'bootstrap-icons/icons/x-lg.svg?raw'
import away from 'bootstrap-icons/icons/cloud-slash.svg?raw'

const icons = { bell, tiles, dial, back, forth, graph, board, book, more, people, gear, out, plus, copy, x, away }
defineProps<{ name: keyof typeof icons; size?: number }>()
</script>

<template>
  <span class="icon" :style="{ fontSize: `${size ?? 18}px` }" aria-hidden="true" v-html="icons[name]"></span>
</template>

<style scoped>
.icon {
  display: inline-flex;
  line-height: 1;
}
.icon :deep(svg) {
  width: 1em;
  height: 1em;
  display: block;
}
</style>
