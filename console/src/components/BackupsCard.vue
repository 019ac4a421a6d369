<script setup lang="ts">
// Backups that the hub makes by itself, where else they go, and one of now.
import { onMounted, reactive, ref } from 'vue'
import { api, ask, keepSole, type BackupsView } from '../api'
import { useSend } from '../form'
import { dayText, size } from '../format'
import { useHub } from '../hub'
import BackupsElsewhere from './BackupsElsewhere.vue'

const hub = useHub()
const view = ref<BackupsView | null>(null)
const f = reactive({ every: '', at: '03:00', keep: '7', word: '', plain: false })
const place = reactive({
  via: '' as '' | 'folder' | 'webdav' | 's3',
  address: '',
  bucket: '',
  folder: '',
  region: '',
  account: '',
  inside: false,
})
const secret = ref('')
const { failed, saved, busy, send } = useSend()
function take(v: BackupsView) {
  view.value = v
  Object.assign(f, { every: v.config.every ?? '', at: v.config.at || '03:00', keep: String(v.config.keep || 7), word: '', plain: false })
  Object.assign(place, { via: '', address: '', bucket: '', folder: '', region: '', account: '', inside: false, ...v.config.elsewhere })
  secret.value = ''
}
const look = async () => take(await ask(api.GET('/backups')))
onMounted(async () => {
  await send(look)
  saved.value = false // it was only asked for
})
const save = () =>
  send(async () => {
    const { via, address, account, inside } = place
    const at = via === 'folder' ? { via, address } : via === 'webdav' ? { via, address, account, inside } : { ...place }
    const config = {
      ...(f.every ? { every: f.every as 'day', at: f.at } : {}),
      ...(f.every || via ? { keep: Number(f.keep) } : {}),
      ...(via ? { elsewhere: at } : {}),
    }
    take(
      await keepSole(
        '/backups',
        { ...config, passphrase: f.plain ? null : f.word || undefined, password: secret.value || undefined },
        view.value!.version,
      ),
    )
  })
const now = () =>
  send(async () => {
    await ask(api.POST('/backups'))
    await look()
  })
</script>

<template>
  <section class="sheet stack tight" aria-label="Backups">
    <div class="between">
      <h2>Backups</h2>
      <button type="button" class="btn btn-outline-secondary btn-sm" :disabled="busy || !view" @click="now">
        {{ busy ? 'One moment …' : 'Back up now' }}
      </button>
    </div>
    <form v-if="view" class="stack tight" @submit.prevent="save">
      <div class="fields">
        <label class="short"
          ><span>By itself</span
          ><select v-model="f.every" class="form-select">
            <option value="">never</option>
            <option value="day">each day</option>
            <option value="week">each Monday</option>
          </select></label
        >
        <label v-if="f.every" class="short"><span>at</span><input v-model="f.at" class="form-control" type="time" required /></label>
        <label v-if="f.every || place.via" class="short"
          ><span>of which stay</span><input v-model="f.keep" class="form-control" type="number" min="1" max="400" required
        /></label>
        <label
          ><span>{{ view.state.passphrase ? 'They are encrypted; another passphrase' : 'Encrypted, with the passphrase' }}</span
          ><input v-model="f.word" class="form-control" type="password" autocomplete="new-password" maxlength="200" :disabled="f.plain"
        /></label>
        <label v-if="view.state.passphrase" class="check"
          ><input v-model="f.plain" type="checkbox" class="form-check-input" /> no longer encrypted</label
        >
      </div>
      <div class="fields">
        <label
          ><span>Copied to</span
          ><select v-model="place.via" class="form-select">
            <option value="">no other place</option>
            <option value="folder">a folder on another disk</option>
            <option value="webdav">WebDAV</option>
            <option value="s3">S3-compatible storage</option>
          </select></label
        >
        <template v-if="place.via">
          <label
            ><span>{{ place.via === 'folder' ? 'Folder' : 'Address' }}</span
            ><input
              v-model.trim="place.address"
              class="form-control"
              required
              :placeholder="place.via === 'folder' ? '/mnt/disk/idleember' : 'https://'"
              autocapitalize="none"
              spellcheck="false"
          /></label>
          <template v-if="place.via === 's3'">
            <label class="short"
              ><span>Bucket</span><input v-model.trim="place.bucket" class="form-control" required autocapitalize="none" spellcheck="false"
            /></label>
            <label class="short"
              ><span>Folder in it</span><input v-model.trim="place.folder" class="form-control" autocapitalize="none" spellcheck="false"
            /></label>
            <label class="short"
              ><span>Region</span><input v-model.trim="place.region" class="form-control" autocapitalize="none" spellcheck="false"
            /></label>
          </template>
          <template v-if="place.via !== 'folder'">
            <label
              ><span>{{ place.via === 's3' ? 'Access key' : 'Account' }}</span
              ><input v-model.trim="place.account" class="form-control" autocomplete="off" autocapitalize="none" spellcheck="false"
            /></label>
            <label
              ><span>{{ (place.via === 's3' ? 'Secret' : 'Password') + (view.state.password ? ', where it is another' : '') }}</span
              ><input v-model="secret" class="form-control" type="password" autocomplete="new-password" maxlength="500"
            /></label>
            <label class="check"><input v-model="place.inside" type="checkbox" class="form-check-input" /> it is in the house</label>
          </template>
        </template>
      </div>
      <div class="fields">
        <button class="btn btn-outline-secondary" :disabled="busy">Save</button
        ><span class="small-text" :class="failed ? 'warn-text' : 'soft'" role="status">{{ failed || (saved ? 'done' : '') }}</span>
      </div>
    </form>
    <p v-else class="soft mb-0">{{ failed || 'Loading …' }}</p>
    <template v-if="view">
      <div v-if="view.state.failed" class="note bad" role="alert">The last one was not made: {{ view.state.failed }}</div>
      <p v-if="!view.state.list.length" class="soft mb-0">
        None yet. A backup is one verified file with everything in it, made while the hub runs; <code>idleember restore</code> brings it
        back.
      </p>
      <ul v-else class="backups">
        <li v-for="b in view.state.list" :key="b.name">
          <span>{{ dayText(Date.parse(b.at), hub.zone) }}</span><code class="small-text">{{ b.name }}</code
          ><span class="soft">{{ size(b.bytes) }}</span
          ><span v-if="b.of" class="soft small-text">of another hub: {{ b.of }}</span
          ><span v-if="b.damaged" class="warn-text small-text">made of a damaged database</span>
        </li>
      </ul>
      <p class="soft small-text mb-0">
        They are in <code>{{ view.state.folder }}</code>.<template v-if="!view.config.elsewhere?.via">
          Have them copied to another disk or another house: one that stands beside what it saves is lost with it.</template
        >
      </p>
      <BackupsElsewhere :view="view" @look="send(look)" />
    </template>
  </section>
</template>

<style scoped>
.check {
  display: flex;
  gap: 8px;
  align-items: center;
}
</style>

<style>
.backups {
  list-style: none;
  padding: 0;
  margin: 0;
  max-height: 220px;
  overflow: auto;
}
.backups li {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
  justify-content: space-between;
  align-items: center;
  padding: 5px 0;
}
.backups li + li {
  border-top: 1px solid var(--line);
}
</style>
