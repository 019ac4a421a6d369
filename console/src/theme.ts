// Light, dark, or as the device has it, and the accent; first/theme.js does the same before the first paint.
import { ref, watchEffect } from 'vue'
import { useHub } from './hub'

/** Counts changes of the shown theme, for what is drawn on a canvas. */
export const painted = ref(0)

const system = matchMedia('(prefers-color-scheme: dark)')

function keep(name: string, value: string | undefined) {
  try {
    if (value) localStorage.setItem(name, value)
    else localStorage.removeItem(name)
  } catch {
    /* closed to us: then the first paint is plain */
  }
}

/** Paints as the person who is signed in wants it, and as the last one did until then. */
export function followTheme() {
  const hub = useHub()
  const paint = () => {
    const theme = hub.me ? hub.preferences.theme : localStorage.getItem('theme')
    const dark = theme === 'dark' || (theme !== 'light' && system.matches)
    document.documentElement.setAttribute('data-bs-theme', dark ? 'dark' : 'light')
    document.documentElement.setAttribute('data-accent', (hub.me ? hub.preferences.accent : localStorage.getItem('accent')) || 'ember')
    painted.value++
  }
  system.addEventListener('change', paint)
  matchMedia('print').addEventListener('change', paint) // what is drawn on a canvas is drawn anew, on white
  watchEffect(() => {
    if (hub.preferencesKnown) {
      keep('theme', hub.preferences.theme)
      keep('accent', hub.preferences.accent)
    }
    paint()
  })
}
