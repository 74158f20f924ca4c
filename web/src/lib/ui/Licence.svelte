<script lang="ts">
  /** A licence text, to be read and accepted. `saved` tells what accepting keeps, and where. */
  import Button from './Button.svelte';
  import Dialog from './Dialog.svelte';
  interface Props {
    text: string;
    product: string;
    saved: string;
    onaccept: (by: string) => void;
    onclose: () => void;
  }
  let { text, product, saved, onaccept, onclose }: Props = $props();
  let by = $state('');
</script>

<Dialog title={`Licence of ${product}`} wide {onclose}>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <pre tabindex="0">{text}</pre>
  <form
    onsubmit={(e) => {
      e.preventDefault();
      onaccept(by.trim());
    }}
  >
    <label
      >Accepted by <input
        bind:value={by}
        required
        minlength="2"
        maxlength="80"
        placeholder="your name"
      /></label
    >
    <Button kind="main" type="submit" disabled={by.trim().length < 2}>Accept licence</Button>
  </form>
  <p class="quiet">{saved}</p>
</Dialog>

<style>
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
  form {
    display: flex;
    gap: 14px;
    align-items: center;
    justify-content: space-between;
    margin-bottom: 8px;
  }
  input {
    margin-left: 8px;
  }
</style>
