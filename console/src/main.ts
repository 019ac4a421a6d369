import 'bootstrap/dist/css/bootstrap.css'
import 'bootstrap-vue-next/dist/bootstrap-vue-next.css'
import '@fontsource-variable/figtree/wght.css'
import './style.css'
import { createBootstrap } from 'bootstrap-vue-next/plugins/createBootstrap'
import { createPinia } from 'pinia'
import { createApp } from 'vue'
import App from './App.vue'
import { router } from './router'

createApp(App).use(createPinia()).use(createBootstrap()).use(router).mount('#app')
