import { svelte } from '@sveltejs/vite-plugin-svelte'
import tailwindcss from '@tailwindcss/vite'
import { defineConfig } from 'vitest/config'

export default defineConfig(({ command }) => ({
  base: command === 'build' ? '/static/web/' : '/',
  plugins: [tailwindcss(), svelte()],
  // No data: addresses, so that the content security policy needs no exception.
  build: { assetsInlineLimit: 0, target: 'es2022' },
  server: { proxy: { '/api': 'http://127.0.0.1:8600', '/return': 'http://127.0.0.1:8600' } },
  // Parts of pages are mounted as in a browser.
  resolve: process.env.VITEST ? { conditions: ['browser'] } : undefined,
  test: { environment: 'node', include: ['src/**/*.test.ts'] },
}))
