import { fileURLToPath } from 'node:url';

import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vitest/config';

/** What code of the console lies in; see eslint.config.js for who may import whom. */
const folders = ['api', 'lib', 'ui', 'shell', 'watch', 'work', 'design', 'run', 'links'];
const folder = (name: string) => fileURLToPath(new URL(`./src/${name}`, import.meta.url));

export default defineConfig({
  plugins: [tailwindcss(), svelte()],
  resolve: { alias: Object.fromEntries(folders.map((name) => [`$${name}`, folder(name)])) },
  build: { target: 'es2023', assetsInlineLimit: 0 },
  server: { proxy: { '/api': 'http://127.0.0.1:7070' } },
  test: { environment: 'jsdom', include: ['tests/**/*.test.ts'] },
});
