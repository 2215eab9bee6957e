import { createRouter, createWebHistory, type RouteRecordRaw } from 'vue-router'

export const routes: RouteRecordRaw[] = [
  { path: '/', name: 'today', component: () => import('./pages/TodayPage.vue'), meta: { title: 'Home' } },
  {
    path: '/describe/:part(text|beside|import)?',
    name: 'describe',
    component: () => import('./pages/DescribePage.vue'),
    meta: { title: 'Describe' },
  },
  { path: '/roles/:type?', name: 'roles', component: () => import('./pages/RolesPage.vue'), meta: { title: 'Roles' } },
  { path: '/roles/of/:role', name: 'role', component: () => import('./pages/RolePage.vue'), meta: { title: 'Roles' } },
  {
    path: '/give/:part(standby|groups|tenant-roles|beside)?',
    name: 'give',
    component: () => import('./pages/GivePage.vue'),
    meta: { title: 'Give' },
  },
  {
    path: '/refine/:part(rules|confers|conditions)?',
    name: 'refine',
    component: () => import('./pages/RefinePage.vue'),
    meta: { title: 'Refine' },
  },
  { path: '/register/:part(load)?', name: 'register', component: () => import('./pages/RegisterPage.vue'), meta: { title: 'Register' } },
  { path: '/try', name: 'try', component: () => import('./pages/TryPage.vue'), meta: { title: 'Try' } },
  { path: '/register/of/:name', name: 'entity', component: () => import('./pages/EntityPage.vue'), meta: { title: 'Register' } },
  {
    path: '/connect/:part(routes|issuers|tokens)?',
    name: 'connect',
    component: () => import('./pages/ConnectPage.vue'),
    meta: { title: 'Connect' },
  },
  {
    path: '/rehearse/:part(guarantees|samples)?',
    name: 'rehearse',
    component: () => import('./pages/RehearsePage.vue'),
    meta: { title: 'Rehearse' },
  },
  { path: '/rollout', name: 'rollout', component: () => import('./pages/RolloutPage.vue'), meta: { title: 'Roll out' } },
  { path: '/rollout/review/:id', name: 'review', component: () => import('./pages/ReviewPage.vue'), meta: { title: 'Review' } },
  {
    path: '/setup/:part(operators|nodes)?',
    name: 'setup',
    component: () => import('./pages/SetupPage.vue'),
    meta: { title: 'Setup' },
  },
  { path: '/:rest(.*)*', redirect: '/' },
]

export const router = createRouter({ history: createWebHistory(), routes })

router.afterEach((to) => {
  document.title = `${String(to.meta.title ?? '')} · Ostrog`
})
