<script lang="ts">
  import type { Snippet } from 'svelte';
  interface Props {
    children: Snippet;
    onclick?: () => void;
    kind?: 'main' | 'plain' | 'link' | 'danger';
    disabled?: boolean;
    title?: string;
    type?: 'button' | 'submit';
  }
  let {
    children,
    onclick,
    kind = 'plain',
    disabled = false,
    title,
    type = 'button',
  }: Props = $props();
</script>

<button {type} {disabled} {title} data-kind={kind} {onclick}>{@render children()}</button>

<style>
  button {
    border: 1px solid var(--strong-line);
    background: var(--surface);
    border-radius: var(--radius);
    padding: 4px 12px;
    cursor: pointer;
    white-space: nowrap;
  }
  button:hover:not(:disabled) {
    border-color: var(--accent);
    color: var(--accent);
  }
  button:disabled {
    opacity: 0.55;
    cursor: default;
  }
  [data-kind='main'] {
    background: var(--accent);
    border-color: var(--accent);
    color: var(--accent-ink);
    font-weight: 600;
    padding: 7px 20px;
  }
  [data-kind='main']:hover:not(:disabled) {
    color: var(--accent-ink);
    filter: brightness(1.08);
  }
  [data-kind='link'] {
    border: 0;
    background: none;
    padding: 0;
    color: var(--accent);
    text-decoration: underline;
    text-underline-offset: 3px;
    white-space: normal;
    text-align: left;
  }
  [data-kind='danger'] {
    border-color: var(--blocker);
    color: var(--blocker);
  }
</style>
