<script lang="ts">
  /** Puts a text on the clipboard, and says so. */
  import { notices } from '../notices.svelte';

  /** `what` names it: “address of gannet”. */
  let { text, what }: { text: string; what: string } = $props();
  let copied = $state(false);
  async function copy() {
    try {
      await navigator.clipboard.writeText(text);
      copied = true;
      setTimeout(() => {
        copied = false;
      }, 1500);
    } catch {
      notices.say('Not copied', `The browser does not allow it here. Select it instead: ${text}`);
    }
  }
</script>

<button type="button" title={`Copy ${what}`} aria-label={`Copy ${what}`} onclick={() => void copy()}
  ><svg width="13" height="13" viewBox="0 0 13 13" aria-hidden="true"
    >{#if copied}<path d="m2 7 3 3 6-8" />{:else}<path d="M4 4V1h8v8H9M1 4h8v8H1z" />{/if}</svg
  ><span class="visually-hidden" role="status">{copied ? 'Copied' : ''}</span></button
>

<style>
  button {
    border: 0;
    background: none;
    padding: 5px 6px;
    min-width: 25px;
    min-height: 24px;
    cursor: pointer;
    vertical-align: middle;
  }
  path {
    fill: none;
    stroke: var(--muted);
    stroke-width: 1.4;
  }
  button:hover path {
    stroke: var(--accent);
  }
  @media print {
    button {
      display: none;
    }
  }
</style>
