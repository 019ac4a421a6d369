import { expect, test } from 'vitest'
import { ref } from 'vue'
import { useSteps } from './steps'

test('steps are undone and done again, and typing is one', () => {
  const draft = ref<{ n: number; name: string } | null>({ n: 0, name: '' })
  const { begin, step, undo, redo, canUndo, canRedo } = useSteps(draft)
  begin()
  step((d) => (d.n = 1))
  step((d) => (d.name = 'a'), 'name')
  step((d) => (d.name = 'ab'), 'name')
  step((d) => (d.name = 'ab'), 'name')
  undo()
  expect(draft.value).toEqual({ n: 1, name: '' })
  undo()
  expect([draft.value, canUndo.value]).toEqual([{ n: 0, name: '' }, false])
  redo()
  redo()
  expect([draft.value, canRedo.value]).toEqual([{ n: 1, name: 'ab' }, false])
  undo()
  step((d) => (d.n = 7))
  expect(canRedo.value).toBe(false)
  begin()
  expect(canUndo.value).toBe(false)
})
