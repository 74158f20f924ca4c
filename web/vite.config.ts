import { svelte } from '@sveltejs/vite-plugin-svelte';
import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { marked, type Tokens } from 'marked';
import subsetFont from 'subset-font';
import { brotliCompressSync, constants, gzipSync } from 'node:zlib';
import { type Plugin } from 'vite';
import { defineConfig } from 'vitest/config';

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

/** What the fonts' Latin files are for: the page's own texts and what people type in Western scripts. */
const LATIN = [
  [0x20, 0x7e],
  [0xa0, 0x17f],
  [0x2010, 0x2027],
  [0x2030, 0x205e],
  [0x2190, 0x2193],
] as const;
const SINGLE = '\u02c6\u02da\u02dc\u20ac\u2122\u2212\u2215\ufffd';

function latin(): string {
  const letters = LATIN.flatMap(([from, to]) =>
    Array.from({ length: to - from + 1 }, (_, at) => String.fromCharCode(from + at)),
  );
  return letters.join('') + SINGLE;
}

/** Fonts with what the page shows and nothing more: half of what a first load costs is fonts. */
function fonts(): Plugin {
  return {
    name: 'fonts',
    apply: 'build',
    async generateBundle(_, bundle) {
      for (const file of Object.values(bundle)) {
        if (file.type !== 'asset' || !file.fileName.endsWith('.woff2')) continue;
        // The fixed font's ligatures are switched off (tokens.css); the text font's table digits are not.
        const ligatures = !file.fileName.includes('mono');
        file.source = await subsetFont(Buffer.from(file.source), latin(), {
          targetFormat: 'woff2',
          noLayoutClosure: !ligatures,
        });
      }
    },
  };
}

const slug = (text: string) =>
  text
    .toLowerCase()
    .replace(/[^\w\s-]/g, '')
    .trim()
    .replace(/\s+/g, '-');

/** `docs/name.md?html`: a page of the docs as HTML. Pictures stay in the docs; links lead to the guide's own pages. */
function docs(): Plugin {
  marked.use({
    renderer: {
      image: () => '',
      link({ href, tokens }: Tokens.Link) {
        const page = /^([a-z-]+)\.md(#.*)?$/.exec(href);
        const inside = this.parser.parseInline(tokens);
        return page ? `<a href="/help/${page[1]}${page[2] ?? ''}">${inside}</a>` : inside;
      },
      heading({ depth, tokens, text }: Tokens.Heading) {
        return `<h${depth} id="${slug(text)}">${this.parser.parseInline(tokens)}</h${depth}>`;
      },
      tablecell({ header, tokens, text }: Tokens.TableCell) {
        const tag = header ? 'th' : 'td';
        return `<${tag} id="${slug(text.slice(0, 60))}">${this.parser.parseInline(tokens)}</${tag}>`;
      },
    },
  });
  return {
    name: 'docs',
    enforce: 'pre',
    async load(id) {
      if (!id.endsWith('.md?html')) return null;
      const text = readFileSync(id.replace(/\?html$/, ''), 'utf8');
      return `export default ${JSON.stringify(await marked.parse(text))};`;
    },
  };
}

export default defineConfig({
  plugins: [docs(), svelte(), fonts(), packed()],
  // A busy machine is no fault of a test: what never ends is found after 30 s as well as after 5.
  test: { testTimeout: 30_000 },
  build: {
    outDir: OUT,
    emptyOutDir: true,
    assetsInlineLimit: 0,
    rolldownOptions: { checks: { pluginTimings: false } },
  },
});
