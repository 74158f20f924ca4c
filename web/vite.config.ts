import { svelte } from '@sveltejs/vite-plugin-svelte';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [svelte()],
  build: {
    outDir: '../src/nimble_stone/server/static',
    emptyOutDir: true,
    assetsInlineLimit: 0,
    rolldownOptions: { checks: { pluginTimings: false } },
  },
});
