<script lang="ts">
  /** Filters what stands below; `/` leads here from anywhere on the page. */
  import { isTyping, prefs } from '../../lib/prefs.svelte';

  let { value = $bindable() }: { value: string } = $props();
  let field: HTMLInputElement | undefined = $state();
  function keys(event: KeyboardEvent) {
    if (event.key !== '/' || !prefs.letters || isTyping(event.target)) return;
    field?.focus();
    event.preventDefault();
  }
</script>

<svelte:window onkeydown={keys} />
<input
  bind:this={field}
  bind:value
  placeholder={prefs.letters ? 'Filter by typing  /' : 'Filter'}
  aria-label="Filter"
  onkeydown={(e) => {
    if (e.key === 'Escape') {
      value = '';
      field?.blur();
    }
  }}
/>

<style>
  input {
    border: 0;
    border-bottom: 1px solid var(--strong-line);
    background: none;
    padding: 2px 4px;
    width: 150px;
    border-radius: 0;
  }
  @media print {
    input {
      display: none;
    }
  }
</style>
