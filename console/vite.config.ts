import tailwindcss from '@tailwindcss/vite'
import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue(), tailwindcss()],
  build: { emptyOutDir: false, assetsInlineLimit: 0, target: 'es2022', modulePreload: { polyfill: false } },
})
