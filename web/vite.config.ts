import { svelte } from '@sveltejs/vite-plugin-svelte'
import tailwindcss from '@tailwindcss/vite'
import { defineConfig } from 'vitest/config'

export default defineConfig(({ command }) => ({
  base: command === 'build' ? '/static/web/' : '/',
  plugins: [tailwindcss(), svelte()],
  // No data: addresses, so that the content security policy needs no exception.
  build: { assetsInlineLimit: 0, target: 'es2022' },
  // bin/dev says where the desk is; the glossary lies in the documents beside this folder.
  server: {
    proxy: Object.fromEntries(
      ['/api', '/return'].map((path) => [
        path,
        process.env.NEATLATCH_DEV_DESK ?? 'http://127.0.0.1:8600',
      ]),
    ),
    fs: { allow: ['.', '../docs'] },
  },
  // Parts of pages are mounted as in a browser.
  resolve: process.env.VITEST ? { conditions: ['browser'] } : undefined,
  test: { environment: 'node', include: ['src/**/*.test.ts'] },
}))
