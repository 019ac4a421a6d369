// What every form does: send, show what failed and where, say that it is saved.
import { ref } from 'vue'
import { HubError, sentence } from './api'

export function useSend() {
  const failed = ref('')
  const field = ref('')
  const saved = ref(false)
  const busy = ref(false)
  /** Runs f and reports whether it went well. */
  async function send(f: () => Promise<unknown>): Promise<boolean> {
    failed.value = field.value = ''
    saved.value = false
    busy.value = true
    try {
      await f()
      saved.value = true
      return true
    } catch (e) {
      failed.value = sentence(e)
      field.value = e instanceof HubError ? (e.field ?? '') : ''
      return false
    } finally {
      busy.value = false
    }
  }
  return { failed, field, saved, busy, send }
}

/** A number of a form's field, undefined where it is empty. */
export function num(v: unknown): number | undefined {
  return v === '' || v === null || v === undefined || Number.isNaN(Number(v)) ? undefined : Number(v)
}

/** Words separated by commas. */
export const words = (text: string) =>
  text
    .split(',')
    .map((w) => w.trim())
    .filter(Boolean)

/** What somebody filled in: fields that are empty are left out. */
export function filled<T extends object>(o: T): T {
  return Object.fromEntries(Object.entries(o).filter(([, v]) => v !== undefined && v !== '')) as T
}
