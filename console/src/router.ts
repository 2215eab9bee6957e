import { createRouter, createWebHistory } from 'vue-router'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', name: 'today', component: () => import('./pages/TodayPage.vue'), meta: { title: 'Today' } },
    { path: '/roles/:type?', name: 'roles', component: () => import('./pages/RolesPage.vue'), meta: { title: 'Roles' } },
    { path: '/try', name: 'try', component: () => import('./pages/TryPage.vue'), meta: { title: 'Try' } },
    { path: '/register/:name', name: 'entity', component: () => import('./pages/EntityPage.vue'), meta: { title: 'Register' } },
    { path: '/connect', name: 'connect', component: () => import('./pages/KeysPage.vue'), meta: { title: 'Connect' } },
    { path: '/rollout', name: 'rollout', component: () => import('./pages/RolloutPage.vue'), meta: { title: 'Roll out' } },
    { path: '/:rest(.*)*', redirect: '/' },
  ],
})

router.afterEach((to) => {
  document.title = `${String(to.meta.title ?? '')} · Ostrog`
})
