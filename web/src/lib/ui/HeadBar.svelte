<script lang="ts">
  /** The head of a page: a sentence on what it shows, and what can be done with it. */
  import type { Snippet } from 'svelte';

  let { children, acts }: { children: Snippet; acts: Snippet } = $props();
</script>

<div class="bar">
  <div>{@render children()}</div>
  <div class="acts">{@render acts()}</div>
</div>

<style>
  .bar {
    display: flex;
    justify-content: space-between;
    gap: 28px;
    align-items: flex-start;
    padding: 10px 0 6px;
    border-bottom: 1px solid var(--line);
    flex: none;
  }
  .bar :global(p) {
    font-size: var(--text-s);
  }
  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 8px;
    align-items: center;
    justify-content: flex-end;
    max-width: 60%;
    flex: none;
  }
</style>
