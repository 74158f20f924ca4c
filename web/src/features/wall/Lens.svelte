<script lang="ts">
  /** What is under the pointer, where columns are too narrow for words. */
  import type { Snippet } from 'svelte';

  interface Props {
    name: string;
    place: string;
    /** Where the pointer is, and how wide the wall is, in pixels. */
    x: number;
    width: number;
    children: Snippet;
  }
  let { name, place, x, width, children }: Props = $props();
</script>

<div class="lens" style:left={`${Math.max(0, Math.min(width - 250, x + 14))}px`} aria-hidden="true">
  <b>{name}</b> <span class="quiet">{place}</span>
  {@render children()}
</div>

<style>
  .lens {
    position: absolute;
    top: 22px;
    width: 250px;
    background: var(--surface);
    border: 1px solid var(--ink);
    padding: 7px 11px;
    font-size: var(--text-s);
    pointer-events: none;
    z-index: 5;
  }
</style>
