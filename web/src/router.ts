import { createRouter, createWebHistory } from 'vue-router'

export const router = createRouter({
  history: createWebHistory(),
  routes: [
    { path: '/', redirect: '/today' },
    { path: '/today', component: () => import('./pages/TodayPage.vue'), meta: { title: 'Today' } },
    { path: '/documents', component: () => import('./pages/DocumentsPage.vue'), meta: { title: 'Documents' } },
    {
      path: '/documents/:sha',
      component: () => import('./pages/DocumentPage.vue'),
      props: true,
      meta: { title: 'Document' },
    },
    {
      path: '/documents/:sha/editor',
      component: () => import('./editor/MappingEditorPage.vue'),
      props: (r) => ({ sha: String(r.params.sha), name: String(r.query.mapping ?? '') }),
      meta: { title: 'Mapping editor' },
    },
    { path: '/mappings', component: () => import('./pages/MappingsPage.vue'), meta: { title: 'Mappings' } },
    {
      path: '/mappings/:name',
      component: () => import('./pages/MappingPage.vue'),
      props: true,
      meta: { title: 'Mapping' },
    },
    { path: '/lists', component: () => import('./pages/ListsPage.vue'), meta: { title: 'Lists' } },
    {
      path: '/lists/:kind/:name',
      component: () => import('./pages/ListPage.vue'),
      props: true,
      meta: { title: 'List' },
    },
    { path: '/loads', component: () => import('./pages/LoadsPage.vue'), meta: { title: 'Loads' } },
    {
      path: '/loads/:id',
      component: () => import('./pages/LoadPage.vue'),
      props: (r) => ({ id: Number(r.params.id), first: String(r.query.tab ?? 'reasons') }),
      meta: { title: 'Load' },
    },
    {
      path: '/held',
      component: () => import('./pages/HeldPage.vue'),
      props: (r) => ({
        sync: r.query.sync ? String(r.query.sync) : undefined,
        code: r.query.code ? String(r.query.code) : undefined,
      }),
      meta: { title: 'Held' },
    },
    { path: '/orders', component: () => import('./pages/OrdersPage.vue'), meta: { title: 'Orders' } },
    {
      path: '/orders/:id',
      component: () => import('./pages/OrderPage.vue'),
      props: (r) => ({ id: Number(r.params.id) }),
      meta: { title: 'Order' },
    },
    { path: '/exchange', component: () => import('./pages/ExchangePage.vue'), meta: { title: 'Exchange' } },
    {
      path: '/exchange/:id',
      component: () => import('./pages/InterchangePage.vue'),
      props: (r) => ({ id: Number(r.params.id), first: Number(r.query.set) || undefined }),
      meta: { title: 'Interchange' },
    },
    { path: '/systems', component: () => import('./pages/SystemsPage.vue'), meta: { title: 'Systems' } },
    {
      path: '/systems/:name',
      component: () => import('./pages/SystemPage.vue'),
      props: (r) => ({ name: String(r.params.name), first: String(r.query.tab ?? 'records') }),
      meta: { title: 'System' },
    },
    { path: '/syncs', component: () => import('./pages/SyncsPage.vue'), meta: { title: 'Syncs' } },
    {
      path: '/syncs/:name',
      component: () => import('./pages/SyncPage.vue'),
      props: (r) => ({ name: String(r.params.name), first: String(r.query.tab ?? 'history') }),
      meta: { title: 'Sync' },
    },
    { path: '/docs', redirect: '/docs/getting-started' },
    {
      path: '/docs/:name(.+)',
      component: () => import('./docs/DocsPage.vue'),
      props: true,
      meta: { title: 'Documentation' },
    },
    { path: '/:rest(.*)*', component: () => import('./pages/MissingPage.vue'), meta: { title: 'Not here' } },
  ],
})

router.afterEach((to) => {
  document.title = `${to.meta.title ?? ''} · Koinos`
})
