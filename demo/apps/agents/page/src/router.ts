import { createRouter, createWebHistory } from 'vue-router'
import Refused from './Refused.vue'
import Start from './Start.vue'
import Things from './Things.vue'

/** A page says which affordance shows it; where that is not shown, App leads to the page that says so. */
declare module 'vue-router' {
  interface RouteMeta {
    shownBy?: string
  }
}

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', component: Start },
    { path: '/bookings/:id?', component: Things, props: { kind: 'booking' }, meta: { shownBy: 'bookings' } },
    { path: '/invoices/:id?', component: Things, props: { kind: 'invoice' }, meta: { shownBy: 'invoices' } },
    { path: '/:rest(.*)*', component: Refused },
  ],
})
