// What changes how somebody signs in asks for the password again. Whoever enters it goes on where they were.
import { shallowRef } from 'vue'
import { api, type Problem } from './api'

/** Answers whoever waits for the password; null where nobody does. */
export const waiting = shallowRef<((given: boolean) => void) | null>(null)

let asked: Promise<boolean> | undefined
function prove() {
  asked ??= new Promise<boolean>((done) => {
    waiting.value = done
  }).finally(() => {
    asked = undefined
    waiting.value = null
  })
  return asked
}

const sent = new WeakMap<Request, Request>()

export function askAgain() {
  api.use({
    onRequest({ request }) {
      if (request.method !== 'GET') sent.set(request, request.clone())
    },
    async onResponse({ request, response }) {
      const again = sent.get(request)
      if (response.status !== 403 || !again) return
      const problem = (await response
        .clone()
        .json()
        .catch(() => ({}))) as Partial<Problem>
      if (problem.field === 'proof' && (await prove())) return fetch(again)
    },
  })
}
