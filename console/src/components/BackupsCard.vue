<script setup lang="ts">
// Backups that the hub makes by itself, and one of now.
import { onMounted, reactive, ref } from 'vue'
import { api, ask, type BackupsView } from '../api'
import { useSend } from '../form'
import { dayText, size } from '../format'
import { useHub } from '../hub'

const hub = useHub()
const view = ref<BackupsView | null>(null)
const f = reactive({ every: '', at: '03:00', keep: '7', word: '', plain: false })
const { failed, saved, busy, send } = useSend()
function take(v: BackupsView) {
  view.value = v
  Object.assign(f, { every: v.config.every ?? '', at: v.config.at || '03:00', keep: String(v.config.keep || 7), word: '', plain: false })
}
onMounted(async () => {
  await send(async () => take(await ask(api.GET('/backups'))))
  saved.value = false // it was only asked for
})
const save = () => send(async () => take(await ask(api.PUT('/backups', { params: { header: { 'If-Match': view.value!.version } }, body: { config: f.every ? { every: f.every as 'day', at: f.at, keep: Number(f.keep) } : {}, passphrase: f.plain ? '' : f.word || undefined } }))))
const now = () => send(async () => {
  await ask(api.POST('/backups'))
  take(await ask(api.GET('/backups')))
})
</script>

<template>
  <section class="sheet stack tight" aria-label="Backups">
    <div class="between"><h2>Backups</h2><button type="button" class="btn btn-outline-secondary btn-sm" :disabled="busy || !view" @click="now">{{ busy ? 'One moment …' : 'Make one now' }}</button></div>
    <form v-if="view" class="fields" @submit.prevent="save">
      <label class="short"><span>By itself</span><select v-model="f.every" class="form-select"><option value="">never</option><option value="day">each day</option><option value="week">each Monday</option></select></label>
      <template v-if="f.every">
        <label class="short"><span>at</span><input v-model="f.at" class="form-control" type="time" required /></label>
        <label class="short"><span>of which stay</span><input v-model="f.keep" class="form-control" type="number" min="1" max="400" required /></label>
      </template>
      <label><span>{{ view.encrypted ? 'They are encrypted; another passphrase' : 'Encrypted, with the passphrase' }}</span><input v-model="f.word" class="form-control" type="password" autocomplete="new-password" maxlength="200" :disabled="f.plain" /></label>
      <label v-if="view.encrypted" class="check"><input v-model="f.plain" type="checkbox" class="form-check-input" /> no longer encrypted</label>
      <button class="btn btn-outline-secondary" :disabled="busy">Save</button>
      <span class="small-text" :class="failed ? 'warn-text' : 'soft'" role="status">{{ failed || (saved ? 'done' : '') }}</span>
    </form>
    <p v-else class="soft mb-0">{{ failed || 'Asking the hub …' }}</p>
    <template v-if="view">
      <div v-if="view.failed" class="note bad" role="alert">The last one was not made: {{ view.failed }}</div>
      <p v-if="!view.list.length" class="soft mb-0">None yet. A backup is one verified file with everything in it, made while the hub runs; <code>idleember restore</code> brings it back.</p>
      <ul v-else class="list"><li v-for="b in view.list" :key="b.name"><span>{{ dayText(Date.parse(b.at), hub.zone) }}</span><code class="small-text">{{ b.name }}</code><span class="soft">{{ size(b.bytes) }}</span><span v-if="b.damaged" class="warn-text small-text">made of a damaged database</span></li></ul>
      <p class="soft small-text mb-0">They are in <code>{{ view.folder }}</code>. Copy them to another disk now and then: one that stands beside what it saves is lost with it.</p>
    </template>
  </section>
</template>

<style scoped>
.check { display: flex; gap: 8px; align-items: center; }
.list { list-style: none; padding: 0; margin: 0; max-height: 220px; overflow: auto; }
.list li { display: flex; flex-wrap: wrap; gap: 4px 16px; justify-content: space-between; padding: 5px 0; }
.list li + li { border-top: 1px solid var(--line); }
</style>
