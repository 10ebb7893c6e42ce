import './style.css'
import 'primeicons/primeicons.css'

import { QueryClient, VueQueryPlugin } from '@tanstack/vue-query'
import PrimeVue from 'primevue/config'
import ConfirmationService from 'primevue/confirmationservice'
import ToastService from 'primevue/toastservice'
import { createApp } from 'vue'

import { Problem } from './api/client'
import App from './App.vue'
import { router } from './router'
import { i18n } from './texts'
import { preset } from './theme'

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      retry: (count, error) => (error instanceof Problem && error.status === 0 ? true : count < 1),
      retryDelay: 1_500,
    },
  },
})

createApp(App)
  .use(router)
  .use(i18n)
  .use(VueQueryPlugin, { queryClient: queries })
  .use(PrimeVue, { theme: { preset, options: { darkModeSelector: '.never' } } })
  .use(ConfirmationService)
  .use(ToastService)
  .mount('#app')
