// What is rarely opened is loaded, and made, when it is opened first; then it stays, so that it can close in peace.
import { defineAsyncComponent, ref, watch, type Ref } from 'vue'

export const Modal = defineAsyncComponent(() => import('bootstrap-vue-next/components/BModal').then((m) => m.BModal))
export const Drawer = defineAsyncComponent(() => import('bootstrap-vue-next/components/BOffcanvas').then((m) => m.BOffcanvas))

/** True from the first time that open is. */
export function useOnce(open: () => boolean): Ref<boolean> {
  const once = ref(open())
  watch(
    open,
    (is) => {
      if (is) once.value = true
    },
    { flush: 'sync' },
  )
  return once
}
