<script lang="ts">
  import type { Snippet } from 'svelte';
  interface Props {
    title: string;
    aside?: string;
    children: Snippet;
  }
  let { title, aside = '', children }: Props = $props();
</script>

<section aria-label={title}>
  <header>
    <h2>{title}</h2>
    {#if aside}<span class="mono">{aside}</span>{/if}
  </header>
  {@render children()}
</section>

<style>
  section {
    margin-bottom: 22px;
  }
  header {
    display: flex;
    justify-content: space-between;
    align-items: baseline;
    border-bottom: 1px solid var(--strong-line);
    padding-bottom: 3px;
    margin-bottom: 8px;
  }
  h2 {
    font-size: var(--text-m);
    font-weight: 600;
  }
  span {
    color: var(--muted);
    font-size: 12px;
  }
</style>
