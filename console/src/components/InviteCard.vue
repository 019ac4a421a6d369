<script setup lang="ts">
// Invitations: make one, show its link and picture once, see which are open.
import { onMounted, reactive, ref } from 'vue'
import { api, ask, type Invite, type InviteWithCode, type Member } from '../api'
import { useSend } from '../form'
import { clockText } from '../format'
import { useHub } from '../hub'
import { zonedInstant } from '../zoned'

const props = defineProps<{ member?: Member }>() // who is to get a new password; none: somebody new
const emit = defineEmits<{ done: [] }>()
const hub = useHub()
const open = ref<Invite[]>([])
const made = ref<InviteWithCode | null>(null)
const form = reactive({ name: '', role: 'member' as Member['role'], until: '', hours: 72, address: location.origin })
const { failed, busy, send } = useSend()
const load = () =>
  send(async () => {
    open.value = await ask(api.GET('/invites'))
  })
onMounted(load)
const invite = () =>
  send(async () => {
    made.value = await ask(
      api.POST('/invites', {
        body: {
          account: props.member?.account,
          name: props.member ? undefined : form.name || undefined,
          role: props.member ? undefined : form.role,
          until:
            !props.member && form.role === 'guest' && form.until ? new Date(zonedInstant(form.until, hub.zone)).toISOString() : undefined,
          hours: Number(form.hours),
          address: form.address,
        },
      }),
    )
    open.value = await ask(api.GET('/invites'))
  })
const takeBack = (id: string) =>
  send(async () => {
    await ask(api.DELETE('/invites/{id}', { params: { path: { id } } }))
    if (made.value?.invite.id === id) made.value = null
    open.value = await ask(api.GET('/invites'))
  })
const when = (t: string) =>
  clockText(Date.parse(t), hub.zone, { weekday: 'short', day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' })
const article = (r: string) => (r === 'owner' ? 'an owner' : `a ${r}`)
const copied = ref(false)
async function copy() {
  await navigator.clipboard.writeText(made.value!.link)
  copied.value = true
}
const safe = window.isSecureContext
</script>

<template>
  <section class="sheet stack mb-3" aria-label="Invitation">
    <h2>{{ member ? `A new password for ${member.name}` : 'Invite somebody' }}</h2>
    <div v-if="failed" class="note bad" role="alert">{{ failed }}</div>
    <div v-if="made" class="made" role="status">
      <img :src="'data:image/png;base64,' + made.qr" alt="The link as a picture for a phone's camera" width="200" height="200" />
      <div>
        <p class="mb-1">
          {{
            member
              ? `${member.name} opens this link and chooses a password.`
              : `Whoever opens this link first joins as ${article(made.invite.role)}.`
          }}
          It works once, until {{ when(made.invite.expires) }}, and is shown only now.
        </p>
        <code>{{ made.link }}</code>
        <div class="d-flex gap-2 mt-2">
          <button v-if="safe" type="button" class="btn btn-outline-secondary btn-sm" @click="copy">
            {{ copied ? 'Copied' : 'Copy' }}</button><button
            type="button"
            class="btn btn-outline-secondary btn-sm"
            @click="takeBack(made.invite.id)">
            Take it back</button
          ><button type="button" class="btn btn-outline-secondary btn-sm" @click="emit('done')">Done</button>
        </div>
      </div>
    </div>
    <form v-else class="fields" @submit.prevent="invite">
      <template v-if="!member">
        <label><span>Name, if you like</span><input v-model="form.name" class="form-control" maxlength="80" /></label>
        <label
          ><span>As</span
          ><select v-model="form.role" class="form-select" aria-label="As">
            <option value="member">member</option>
            <option value="guest">guest</option>
            <option value="owner">owner</option>
          </select></label
        >
        <label v-if="form.role === 'guest'"
          ><span>Until, if there is an end</span><input v-model="form.until" class="form-control" type="datetime-local"
        /></label>
      </template>
      <label class="short"
        ><span>Works for, hours</span><input v-model="form.hours" class="form-control" type="number" min="1" max="744"
      /></label>
      <label
        ><span>The console's address for them</span><input v-model="form.address" class="form-control" type="url" maxlength="200" required
      /></label>
      <div class="d-flex gap-2">
        <button class="btn btn-primary" :disabled="busy">Make the link</button
        ><button type="button" class="btn btn-outline-secondary" @click="emit('done')">Not now</button>
      </div>
    </form>
    <p v-if="!made && /\/\/(127\.|localhost|\[::1)/.test(form.address)" class="warn-text small-text mb-0">
      This address is of the hub's own computer; a phone does not reach it. Enter the one that phones use.
    </p>
    <ul v-if="open.length && !member" class="plain">
      <li v-for="x in open" :key="x.id" class="between">
        <span
          >{{ x.name || 'somebody' }}
          <span class="soft small-text"
            >{{ x.account ? 'new password' : `as ${article(x.role)}` }}, by {{ x.by }}, until {{ when(x.expires) }}</span
          ></span
        ><button type="button" class="btn btn-outline-secondary btn-sm" @click="takeBack(x.id)">Take back</button>
      </li>
    </ul>
  </section>
</template>

<style scoped>
.made {
  display: flex;
  flex-wrap: wrap;
  gap: 18px;
}
.made > div {
  flex: 1 1 240px;
}
.made img {
  background: #fff;
  border-radius: 8px;
  image-rendering: pixelated;
}
code {
  overflow-wrap: anywhere;
  user-select: all;
}
.plain {
  list-style: none;
  margin: 0;
  padding: 0;
}
.plain li + li {
  border-top: 1px solid var(--line);
}
.plain li {
  padding: 8px 0;
  gap: 10px;
}
</style>
