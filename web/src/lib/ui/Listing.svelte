<script lang="ts">
  /** A dense table of things: head in sight while it scrolls, one line a row. */
  import type { Snippet } from 'svelte';

  let { children }: { children: Snippet } = $props();
</script>

<table>{@render children()}</table>

<style>
  table {
    border-collapse: separate;
    border-spacing: 0;
    width: 100%;
  }
  table :global(thead :is(th, td)) {
    position: sticky;
    top: 0;
    background: var(--sunk);
    color: var(--soft);
    font-weight: 400;
    font-size: var(--text-s);
    text-align: left;
    padding: 4px 6px;
    white-space: nowrap;
  }
  table :global(tbody :is(th, td)) {
    padding: 4px 6px;
    border-bottom: 1px solid var(--line);
    white-space: nowrap;
    text-align: left;
    font-weight: 400;
  }
  table :global(.r) {
    text-align: right !important;
  }
  table :global(tbody th button) {
    border: 0;
    background: none;
    padding: 0;
    font-weight: 600;
    cursor: pointer;
  }
  table :global(tbody th button:hover) {
    color: var(--accent);
  }
  table :global(.chosen > *) {
    background: var(--accent-wash);
  }
  table :global(.bad td:last-child) {
    color: var(--blocker);
  }
</style>
