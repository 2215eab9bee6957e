import vue from '@vitejs/plugin-vue'
import { ElementPlusResolver } from 'unplugin-vue-components/resolvers'
import components from 'unplugin-vue-components/vite'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  // Lines may be broken between words and elements without taking the space between them away.
  // Element Plus's components and their styles come with the pages that use them.
  plugins: [
    vue({ template: { compilerOptions: { whitespace: 'preserve' } } }),
    components({ dirs: [], dts: false, resolvers: [ElementPlusResolver({ importStyle: 'css' })] }),
  ],
  build: {
    target: 'es2022',
    assetsInlineLimit: 0,
    reportCompressedSize: true,
    rolldownOptions: {
      output: {
        codeSplitting: {
          groups: [
            // First, or what it shares with the charts would stand in their file, and every page load them.
            { name: 'vue', test: /node_modules\/(@vue|vue|vue-router|pinia|tslib)\//, priority: 4 },
            { name: 'charts', test: /node_modules\/(echarts|zrender|vue-echarts)/, priority: 3 },
            { name: 'editor', test: /node_modules\/(@codemirror|@lezer|crelt|style-mod|w3c-keyname)/, priority: 3 },
          ],
        },
      },
    },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:7423', '/access': 'http://127.0.0.1:7423' } },
  test: {
    environment: 'happy-dom',
    testTimeout: 60_000,
    setupFiles: ['src/tests/setup.ts'],
    server: { deps: { inline: ['element-plus'] } },
  },
})
