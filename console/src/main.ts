import 'bootstrap/dist/css/bootstrap.css'
import 'bootstrap-vue-next/dist/bootstrap-vue-next.css'
import '@fontsource-variable/figtree/wght.css'
import './style.css'
import { createBootstrap } from 'bootstrap-vue-next/plugins/createBootstrap'
import { createPinia } from 'pinia'
import { createApp } from 'vue'
import App from './App.vue'
import { passEscapeOn } from './escape'
import { router } from './router'

createApp(App).use(createPinia()).use(createBootstrap()).use(router).mount('#app')
passEscapeOn()

// The shell is served at once, also without the hub. Browsers allow it over HTTPS and on the hub's own computer.
if (import.meta.env.PROD && 'serviceWorker' in navigator) {
  void navigator.serviceWorker.register('/worker.js').catch(() => undefined)
  navigator.serviceWorker.addEventListener('message', (e) => {
    if (e.data === 'newer') router.beforeEach((to) => void (location.href = to.fullPath))
  })
}
