import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

import { texts } from './texts.ts'

// `npm run dev` serves the console with a running service behind it.
const service = process.env.KANBAN_ADDRESS ?? 'http://127.0.0.1:7700'

export default defineConfig({
  plugins: [texts(), vue()],
  define: {
    __VUE_I18N_LEGACY_API__: false,
    __INTLIFY_PROD_DEVTOOLS__: false,
  },
  build: { target: 'es2022', chunkSizeWarningLimit: 900 },
  server: { proxy: { '/api': service, '/open': service } },
})
