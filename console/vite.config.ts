import tailwindcss from '@tailwindcss/vite'
import react from '@vitejs/plugin-react'
import { defineConfig } from 'vite'

// The built console goes where package web embeds it. In development, the service of `make dev` answers for the API.
export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: { outDir: '../web/dist', emptyOutDir: true, assetsInlineLimit: 0, chunkSizeWarningLimit: 700 },
  server: { proxy: { '/api': 'http://127.0.0.1:8470' } },
})
