/** Passes Escape on to the dialog on top where the focus is not, or not yet, in it: dialogs hear only their own keys. */
export function passEscapeOn() {
  document.addEventListener('keydown', (e) => {
    if (e.key !== 'Escape' || !e.isTrusted) return
    const top = [...document.querySelectorAll('[role=dialog]')].filter((x) => x.checkVisibility({ visibilityProperty: true })).at(-1)
    if (top && !top.contains(e.target as Node)) top.dispatchEvent(new KeyboardEvent('keydown', { key: 'Escape' }))
  })
}
