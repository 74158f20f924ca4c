<script lang="ts">
  /** The line between picture and table: a filter, and what the page adds. */
  import type { Snippet } from 'svelte';
  import FilterBox from './FilterBox.svelte';

  let { filter = $bindable(), children }: { filter: string; children?: Snippet } = $props();
</script>

<div class="tools"><FilterBox bind:value={filter} />{@render children?.()}</div>

<style>
  .tools {
    display: flex;
    gap: 4px 16px;
    align-items: center;
    padding: 4px 0;
    font-size: var(--text-s);
    min-height: 33px;
  }
  .tools > :global(span) {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    min-width: 0;
  }
  .tools > :global(.right) {
    margin-left: auto;
  }
  .tools :global(button) {
    border: 0;
    background: none;
    color: var(--accent);
    cursor: pointer;
    padding: 0 6px;
  }
  .tools :global(button:disabled) {
    color: var(--muted);
    cursor: default;
  }
  .tools :global(select) {
    border: 0;
    border-bottom: 1px solid var(--line);
    background: none;
    color: var(--soft);
    font-size: var(--text-s);
    padding: 1px 2px;
    margin-right: 6px;
    border-radius: 0;
  }
  @media (max-width: 900px) {
    .tools {
      flex-wrap: wrap;
    }
  }
</style>
