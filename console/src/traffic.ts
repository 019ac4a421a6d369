// Follows what a device and the hub tell each other.
import { onBeforeUnmount, ref } from 'vue'
import { api, ask, sentence, type Message } from './api'

const kept = 300

export function useTraffic(id: string) {
  const messages = ref<Message[]>([]) // newest first
  const failed = ref('')
  const known = ref(false)
  let ended = false
  async function follow() {
    let after = 0
    for (let wait = false; !ended; wait = true) {
      try {
        const more = await ask(api.GET('/devices/{id}/traffic', { params: { path: { id }, query: { after, wait } } }))
        failed.value = ''
        known.value = true
        if (more.length) {
          after = more[more.length - 1]!.seq
          messages.value = [...more.reverse(), ...messages.value].slice(0, kept)
        }
      } catch (e) {
        if (ended) return
        failed.value = sentence(e)
        await new Promise((done) => setTimeout(done, 3000))
        after = 0
        messages.value = []
        known.value = false
      }
    }
  }
  void follow()
  onBeforeUnmount(() => (ended = true))
  return { messages, failed, known }
}
