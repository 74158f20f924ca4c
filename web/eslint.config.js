import js from '@eslint/js';
import globals from 'globals';
import svelte from 'eslint-plugin-svelte';
import ts from 'typescript-eslint';
import svelteConfig from './svelte.config.js';

export default ts.config(
  { ignores: ['src/lib/api/*.gen.d.ts', 'node_modules'] },
  js.configs.recommended,
  ...ts.configs.strict,
  ...svelte.configs.recommended,
  { languageOptions: { globals: { ...globals.browser, ...globals.node } } },
  {
    files: ['**/*.svelte', '**/*.svelte.ts'],
    languageOptions: { parserOptions: { parser: ts.parser, svelteConfig } },
  },
  {
    rules: {
      // an index that was looked up a line above is known to be there; the compiler asks for the mark
      '@typescript-eslint/no-non-null-assertion': 'off',
      // maps here are built anew inside derived values and never changed afterwards
      'svelte/prefer-svelte-reactivity': 'off',
      // {' '} keeps the blank between two elements, whatever the formatter does with line breaks
      'svelte/no-useless-mustaches': 'off',
      // svelte-check is the one that warns, and knows which of its warnings are silenced
      'svelte/no-unused-svelte-ignore': 'off',
      '@typescript-eslint/no-unused-vars': [
        'error',
        { argsIgnorePattern: '^_', varsIgnorePattern: '^_' },
      ],
      // a choice between three reads better as sentences
      'no-nested-ternary': 'error',
      // TypeScript itself knows what is defined
      'no-undef': 'off',
    },
  },
);
