import { svelte } from '@sveltejs/vite-plugin-svelte';
import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { brotliCompressSync, constants, gzipSync } from 'node:zlib';
import { defineConfig, type Plugin } from 'vite';

const OUT = '../src/nimble_stone/server/static';

/** Packed copies beside the text files, so that the server packs nothing while it serves. */
function packed(): Plugin {
  return {
    name: 'packed',
    apply: 'build',
    closeBundle() {
      const folder = join(OUT, 'assets');
      for (const name of readdirSync(folder)) {
        if (!/\.(js|css|svg)$/.test(name)) continue;
        const path = join(folder, name);
        const data = readFileSync(path);
        const quality = { params: { [constants.BROTLI_PARAM_QUALITY]: 11 } };
        writeFileSync(`${path}.br`, brotliCompressSync(data, quality));
        writeFileSync(`${path}.gz`, gzipSync(data, { level: 9 }));
      }
    },
  };
}

export default defineConfig({
  plugins: [svelte(), packed()],
  build: {
    outDir: OUT,
    emptyOutDir: true,
    assetsInlineLimit: 0,
    rolldownOptions: { checks: { pluginTimings: false } },
  },
});
