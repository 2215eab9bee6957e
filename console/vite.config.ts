import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue()],
  build: { target: 'es2022', assetsInlineLimit: 0, reportCompressedSize: true },
  server: { proxy: { '/api': 'http://127.0.0.1:7423', '/access': 'http://127.0.0.1:7423' } },
  test: { environment: 'happy-dom', server: { deps: { inline: ['element-plus'] } } },
})
