// Light, dark, or as the device has it; public/theme.js does the same before the first paint.
import { ref, watchEffect } from 'vue'

export type Theme = 'auto' | 'light' | 'dark'

const stored = localStorage.getItem('theme')
export const theme = ref<Theme>(stored === 'light' || stored === 'dark' ? stored : 'auto')
/** Counts changes of the shown theme, for what is drawn on a canvas. */
export const painted = ref(0)

const system = matchMedia('(prefers-color-scheme: dark)')

function paint() {
  const dark = theme.value === 'dark' || (theme.value === 'auto' && system.matches)
  document.documentElement.setAttribute('data-bs-theme', dark ? 'dark' : 'light')
  painted.value++
}

system.addEventListener('change', paint)
watchEffect(() => {
  if (theme.value === 'auto') localStorage.removeItem('theme')
  else localStorage.setItem('theme', theme.value)
  paint()
})
