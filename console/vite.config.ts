import { fileURLToPath } from 'node:url';

import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vitest/config';

export default defineConfig({
  plugins: [tailwindcss(), svelte()],
  resolve: { alias: { $lib: fileURLToPath(new URL('./src/lib', import.meta.url)) } },
  build: { target: 'es2023', assetsInlineLimit: 0 },
  server: { proxy: { '/api': 'http://127.0.0.1:7070' } },
  test: { environment: 'jsdom', include: ['tests/**/*.test.ts'] },
});
