<script setup lang="ts">
import { useEventListener } from '@vueuse/core'
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { help } from '../help'
import { Drawer, useOnce } from '../once'

const open = defineModel<boolean>({ required: true })
const used = useOnce(() => open.value)
const route = useRoute()
const text = computed(() => help[String(route.name)] ?? help.now!)
function keys(e: KeyboardEvent) {
  if (e.key !== '?' || (e.target as HTMLElement).closest?.('input, select, textarea')) return
  open.value = !open.value
}
useEventListener(document, 'keydown', keys)
</script>

<template>
  <Drawer v-if="used" v-model="open" placement="end" :title="text.title" class="help">
    <p v-for="s in text.says" :key="s">{{ s }}</p>
    <table class="table">
      <tbody>
        <tr v-for="[k, does] in [...(text.keys ?? []), ['?', 'this help'] as [string, string]]" :key="k">
          <td>
            <kbd>{{ k }}</kbd>
          </td>
          <td>{{ does }}</td>
        </tr>
      </tbody>
    </table>
    <p class="soft small-text mt-3 mb-0">
      For scripts there is a description of <a href="/api/docs">everything that the hub can be asked</a>, and <code>idleember --help</code>.
    </p>
  </Drawer>
</template>

<style scoped>
kbd {
  background: var(--paper);
  color: var(--ink);
  border: 1px solid var(--line);
}
</style>
