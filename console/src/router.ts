import { createRouter, createWebHistory } from 'vue-router'
import Now from './pages/Now.vue'

// Pages other than the first are loaded when they are needed.
export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'now', component: Now, meta: { title: 'Now' } },
    { path: '/charts', name: 'charts', component: () => import('./pages/Charts.vue'), meta: { title: 'Charts' } },
    { path: '/dashboards', name: 'dashboards', component: () => import('./pages/Dashboards.vue'), meta: { title: 'Dashboards' } },
    { path: '/dashboards/:id', name: 'dashboard', component: () => import('./pages/Dashboard.vue'), meta: { title: 'Dashboard' } },
    { path: '/dashboards/:id/wall', name: 'wall-of', component: () => import('./pages/Wall.vue'), meta: { title: 'Wall', bare: true } },
    { path: '/wall', name: 'wall', component: () => import('./pages/Wall.vue'), meta: { title: 'Wall', bare: true, open: true } },
    { path: '/places/:id', name: 'place', component: () => import('./pages/Place.vue'), meta: { title: 'Place' } },
    { path: '/signals/:id', name: 'signal', component: () => import('./pages/Signal.vue'), meta: { title: 'Signal' } },
    { path: '/devices', name: 'devices', component: () => import('./pages/Devices.vue'), meta: { title: 'Devices' } },
    { path: '/devices/new', name: 'add-device', component: () => import('./pages/AddDevice.vue'), meta: { title: 'Add a device' } },
    { path: '/models', name: 'models', component: () => import('./pages/Models.vue'), meta: { title: 'Device models' } },
    { path: '/devices/:id', name: 'device', component: () => import('./pages/Device.vue'), meta: { title: 'Device' } },
    { path: '/control', name: 'control', component: () => import('./pages/Control.vue'), meta: { title: 'Control' } },
    { path: '/alerts', name: 'alerts', component: () => import('./pages/Alerts.vue'), meta: { title: 'Alerts' } },
    { path: '/alerts/new', name: 'new-alert', component: () => import('./pages/AlertForm.vue'), meta: { title: 'Tell me when' } },
    { path: '/join', name: 'join', component: () => import('./pages/Join.vue'), meta: { title: 'An invitation', open: true } },
    { path: '/letter', name: 'letter', component: () => import('./pages/Letter.vue'), meta: { title: 'A message', open: true } },
    { path: '/digest', name: 'digest', component: () => import('./pages/Digest.vue'), meta: { title: 'What happened' } },
    { path: '/journal', name: 'journal', component: () => import('./pages/Journal.vue'), meta: { title: 'Journal' } },
    { path: '/household', name: 'household', component: () => import('./pages/Household.vue'), meta: { title: 'Household' } },
    { path: '/settings', name: 'settings', component: () => import('./pages/Settings.vue'), meta: { title: 'Settings' } },
    { path: '/:rest(.*)*', name: 'nothing', component: () => import('./pages/Nothing.vue'), meta: { title: 'Nothing here' } },
  ],
  scrollBehavior: (_to, _from, saved) => saved ?? { top: 0 },
})
