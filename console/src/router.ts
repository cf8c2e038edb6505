import { createRouter, createWebHistory } from 'vue-router'
import Fleet from './pages/FleetPage.vue'
import { remember } from './shell/find'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: Fleet, meta: { title: 'Fleet' } },
    { path: '/devices/:name', component: () => import('./pages/DevicePage.vue'), props: true, meta: { title: 'Device' } },
    { path: '/version', component: () => import('./pages/VersionPage.vue'), meta: { title: 'Version' } },
    { path: '/search', component: () => import('./pages/SearchPage.vue'), meta: { title: 'Search' } },
    { path: '/drift', component: () => import('./pages/DriftPage.vue'), meta: { title: 'Drift' } },
    { path: '/compare', component: () => import('./pages/ComparePage.vue'), meta: { title: 'Compare' } },
    { path: '/edit', component: () => import('./pages/EditPage.vue'), meta: { title: 'Edit' } },
    { path: '/push', component: () => import('./pages/PushPage.vue'), meta: { title: 'Push' } },
    { path: '/push/:id', component: () => import('./pages/PreviewPage.vue'), props: true, meta: { title: 'Push' } },
    { path: '/sheet', redirect: (to) => ({ path: '/bootstrap-sheet', query: to.query }) }, // as it was called before
    { path: '/bootstrap-sheet', component: () => import('./pages/SheetPage.vue'), meta: { title: 'Bootstrap sheet' } },
    { path: '/snapshots', component: () => import('./pages/SnapshotsPage.vue'), meta: { title: 'Snapshots' } },
    { path: '/schedules', component: () => import('./pages/SchedulesPage.vue'), meta: { title: 'Schedules' } },
    { path: '/notifications', component: () => import('./pages/NotificationsPage.vue'), meta: { title: 'Notifications' } },
    { path: '/jobs', component: () => import('./pages/JobsPage.vue'), meta: { title: 'Jobs' } },
    { path: '/jobs/:id', component: () => import('./pages/JobPage.vue'), props: true, meta: { title: 'Job' } },
    { path: '/settings', component: () => import('./pages/SettingsPage.vue'), meta: { title: 'Settings' } },
    { path: '/:rest(.*)*', component: () => import('./pages/LostPage.vue'), meta: { title: 'Nothing here' } },
  ],
  scrollBehavior: (_to, _from, kept) => kept ?? { top: 0 },
})

router.afterEach((to) => {
  const name = String(to.params.name ?? to.query.ref ?? '')
  document.title = `${name || to.meta.title} · Steady Magpie`
  if (to.params.name) remember({ kind: 'device', label: name, to: to.path })
  if (to.path === '/version') remember({ kind: 'version', label: name, to: to.fullPath.replace(/#.*/, '') })
})
