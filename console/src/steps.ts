// Steps of a draft that can be undone and done again.
import { useManualRefHistory } from '@vueuse/core'
import { computed, ref, type Ref } from 'vue'

const typing = 1000 // ms within which steps of one kind, as when somebody types, are one

const clone = <T>(x: T): T => JSON.parse(JSON.stringify(x)) as T

export function useSteps<T>(draft: Ref<T | null>) {
  const { undoStack, redoStack, commit, undo, redo, clear } = useManualRefHistory(draft, { clone, capacity: 500 })
  const renamed = ref(false) // something outside of the steps was changed
  let last = 0
  let lastKind = ''

  /** Begins anew: nothing can be undone. */
  function begin() {
    renamed.value = false
    lastKind = ''
    commit()
    clear()
  }
  /** Does one step; steps of one kind within a moment are one. */
  function step(f: (d: T) => void, kind = '') {
    const next = clone(draft.value!)
    f(next)
    if (JSON.stringify(next) === JSON.stringify(draft.value)) return
    draft.value = next
    const joins = kind && kind === lastKind && Date.now() - last < typing
    commit()
    if (joins) undoStack.value.shift() // what stood between is no step of its own
    last = Date.now()
    lastKind = kind
  }
  const back = (f: () => void) => () => {
    f()
    lastKind = ''
  }
  return {
    begin,
    step,
    undo: back(undo),
    redo: back(redo),
    renamed,
    canUndo: computed(() => undoStack.value.length > 0),
    canRedo: computed(() => redoStack.value.length > 0),
  }
}
