<script lang="ts">
  /** A page: its sentence across, the work at the left, details at the right; narrow, one below the other. */
  import type { Snippet } from 'svelte';

  let { bar, left, details }: { bar: Snippet; left: Snippet; details: Snippet } = $props();
</script>

<div class="page">
  {@render bar()}
  <div class="body">
    <div class="left">{@render left()}</div>
    <aside aria-label="Details">{@render details()}</aside>
  </div>
</div>

<style>
  .page {
    display: flex;
    flex-direction: column;
    height: 100%;
    padding: 0 20px;
    min-height: 0;
  }
  .body {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 316px;
    flex: 1;
    min-height: 0;
  }
  .left {
    display: flex;
    flex-direction: column;
    min-width: 0;
    min-height: 0;
    padding-right: 18px;
  }
  aside {
    border-left: 1px solid var(--line);
    padding: 10px 0 20px 18px;
    overflow: auto;
    min-height: 0;
  }
  /* narrow, or at 200 %: one below the other, and the page scrolls */
  @media (max-width: 900px) {
    .page {
      overflow: auto;
      padding: 0 14px;
    }
    .body {
      display: block;
      flex: none;
    }
    .left {
      padding: 0;
    }
    aside {
      border: 0;
      border-top: 1px solid var(--line);
      padding: 10px 0 30px;
    }
  }
  @media print {
    .page,
    .body,
    .left,
    aside {
      display: block;
      height: auto;
      overflow: visible;
    }
  }
</style>
