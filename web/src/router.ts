import { createRouter, createWebHistory } from 'vue-router'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/documents' },
    { path: '/documents', component: () => import('./pages/DocumentsPage.vue'), meta: { title: 'Documents' } },
    { path: '/documents/:sha', component: () => import('./pages/DocumentPage.vue'), props: true, meta: { title: 'Document' } },
    { path: '/loads', component: () => import('./pages/LoadsPage.vue'), meta: { title: 'Loads' } },
    { path: '/loads/:id', component: () => import('./pages/LoadPage.vue'), props: (r) => ({ id: Number(r.params.id) }), meta: { title: 'Load' } },
    { path: '/orders', component: () => import('./pages/OrdersPage.vue'), meta: { title: 'Orders' } },
    { path: '/orders/:id', component: () => import('./pages/OrderPage.vue'), props: (r) => ({ id: Number(r.params.id) }), meta: { title: 'Order' } },
    { path: '/:rest(.*)*', component: () => import('./pages/MissingPage.vue'), meta: { title: 'Not here' } },
  ],
})

router.afterEach((to) => {
  document.title = `${to.meta.title ?? ''} · Koinos`
})
