import vue from '@vitejs/plugin-vue'
import { ElementPlusResolver } from 'unplugin-vue-components/resolvers'
import components from 'unplugin-vue-components/vite'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [
    vue({ template: { compilerOptions: { whitespace: 'preserve' } } }),
    components({ dirs: [], dts: false, resolvers: [ElementPlusResolver({ importStyle: 'css' })] }),
  ],
  build: { target: 'es2022', assetsInlineLimit: 0, chunkSizeWarningLimit: 1_000 },
  test: { environment: 'happy-dom', testTimeout: 60_000, server: { deps: { inline: ['element-plus'] } } },
})
