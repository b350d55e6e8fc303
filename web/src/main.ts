import { VueQueryPlugin } from '@tanstack/vue-query'
import PrimeVue from 'primevue/config'
import ToastService from 'primevue/toastservice'
import { createApp } from 'vue'

import App from './App.vue'
import { nonce } from './nonce'
import { router } from './router'
import './style.css'
import { OrderPaperTheme } from './theme'

createApp(App)
  .use(router)
  .use(VueQueryPlugin, {
    queryClientConfig: { defaultOptions: { queries: { retry: false, refetchOnWindowFocus: false } } },
  })
  .use(PrimeVue, {
    csp: { nonce },
    theme: { preset: OrderPaperTheme, options: { darkModeSelector: '.dark', cssLayer: false } },
  })
  .use(ToastService)
  .mount('#app')
