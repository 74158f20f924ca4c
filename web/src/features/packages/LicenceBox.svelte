<script lang="ts">
  /** The licence text of a package, to be read and accepted. */
  import type { PackageView } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';

  interface Props {
    one: PackageView;
    onaccept: (by: string) => void;
    onclose: () => void;
  }
  let { one, onaccept, onclose }: Props = $props();
  let by = $state('');
</script>

<Dialog title={`Licence of ${one.product} ${one.version}`} wide {onclose}>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <pre tabindex="0">{one.licence_text}</pre>
  <form
    class="accept"
    onsubmit={(e) => {
      e.preventDefault();
      onaccept(by);
    }}
  >
    <label
      >Accepted by <input
        bind:value={by}
        required
        minlength="2"
        maxlength="120"
        placeholder="your name"
      /></label
    ><Button kind="main" type="submit" disabled={by.trim().length < 2}>Accept licence</Button>
  </form>
  <p class="quiet">
    Name, time and the text's SHA-256 are saved; this counts for every plan with this text.
  </p></Dialog
>

<style>
  .accept {
    display: flex;
    gap: 8px;
    align-items: end;
    margin-bottom: 8px;
  }
  label {
    display: grid;
    gap: 2px;
    width: 100%;
    font-size: var(--text-s);
    color: var(--muted);
  }
  input {
    padding: 4px 8px;
    border: 1px solid var(--strong-line);
    background: var(--surface);
    border-radius: var(--radius);
    color: var(--ink);
    resize: vertical;
  }
  pre {
    white-space: pre-wrap;
    font: var(--text-m)/1.5 var(--sans);
    max-height: 46vh;
    overflow: auto;
    border: 1px solid var(--line);
    padding: 12px 16px;
    margin: 0 0 14px;
    background: var(--paper);
  }
  p {
    font-size: var(--text-s);
  }
</style>
