<script lang="ts">
  import type { Snippet } from 'svelte';
  interface Props {
    title: string;
    children: Snippet;
    onclose?: () => void;
    wide?: boolean;
  }
  let { title, children, onclose, wide = false }: Props = $props();
  let dialog: HTMLDialogElement | undefined = $state();
  /** Where somebody is to type, typing begins at once; else the whole dialog has the focus, not its way out. */
  const FIRST =
    '.inside :is(input:not([type=radio]):not([type=checkbox]):not([type=file]), textarea)';
  $effect(() => {
    const before = document.activeElement;
    dialog?.showModal();
    (dialog?.querySelector<HTMLElement>(FIRST) ?? dialog)?.focus();
    return () => {
      dialog?.close();
      // back where somebody was, unless closing it led elsewhere
      if (before instanceof HTMLElement && before.isConnected) before.focus();
    };
  });
</script>

<dialog
  bind:this={dialog}
  tabindex="-1"
  class:wide
  aria-label={title}
  oncancel={(e) => {
    e.preventDefault();
    onclose?.();
  }}
  onclick={(e) => {
    if (e.target === dialog) onclose?.();
  }}
>
  <div class="inside">
    <header>
      <h2>{title}</h2>
      {#if onclose}<button onclick={onclose}>Close <span class="mono">Esc</span></button>{/if}
    </header>
    {@render children()}
  </div>
</dialog>

<style>
  dialog {
    --field: var(--paper);
    border: 1px solid var(--strong-line);
    background: var(--surface);
    color: var(--ink);
    padding: 0;
    width: min(560px, 92vw);
    border-radius: var(--radius);
  }
  dialog:focus {
    outline: none;
  }
  dialog.wide {
    width: min(760px, 94vw);
  }
  dialog::backdrop {
    background: rgb(20 18 15 / 45%);
  }
  .inside {
    padding: 18px 22px 20px;
  }
  header {
    display: flex;
    justify-content: space-between;
    align-items: baseline;
    margin-bottom: 12px;
  }
  h2 {
    font-size: var(--text-l);
    font-weight: 600;
  }
  header button {
    border: 1px solid var(--line);
    background: none;
    border-radius: var(--radius);
    font-size: var(--text-xs);
    color: var(--muted);
    cursor: pointer;
  }
</style>
