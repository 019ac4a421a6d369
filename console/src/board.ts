// What the tiles of a dashboard need besides the store: the last day of some, and what formulas come to.
import { useIntervalFn } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { api, ask, type Dashboard } from './api'
import { useDay } from './day'
import { shownOn } from './dashboards'
import { useHub, useOnly } from './hub'
import { daysOf } from './tiles'

export function useBoard(board: () => Dashboard | null, kept: () => string) {
  const hub = useHub()
  useOnly(() => (board() ? shownOn(board()!) : []))
  const series = computed(() => daysOf(board()?.tiles ?? []))
  const { traces, runs, to, span } = useDay(() => series.value)

  const formulas = ref<Record<string, string>>({})
  const some = computed(() => (board()?.tiles ?? []).some((t) => t.parts?.some((p) => p.formula)))
  async function evaluate() {
    if (!some.value || !kept() || hub.link !== 'live' || document.hidden) return
    try {
      formulas.value = Object.fromEntries(
        (await ask(api.GET('/dashboards/{id}/formulas', { params: { path: { id: kept() } } }))).map((f) => [f.formula, f.value]),
      )
    } catch {
      /* the banner says that the hub is away */
    }
  }
  useIntervalFn(evaluate, 2000)
  watch([some, kept], evaluate, { immediate: true })
  return { traces, runs, to, from: computed(() => to.value - span), formulas }
}
