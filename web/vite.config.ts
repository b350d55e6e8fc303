import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

import { docs } from './docs.mjs'

export default defineConfig({
  plugins: [vue(), docs()],
  build: { outDir: 'dist', emptyOutDir: true, chunkSizeWarningLimit: 900 },
  server: { proxy: { '/api': 'http://127.0.0.1:8740' } },
})
