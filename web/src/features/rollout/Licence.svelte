<script lang="ts">
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  interface Props {
    text: string;
    product: string;
    onaccept: (by: string) => void;
    onclose: () => void;
  }
  let { text, product, onaccept, onclose }: Props = $props();
  let by = $state('');
</script>

<Dialog title={`Licence of ${product}`} wide {onclose}>
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <pre tabindex="0">{text}</pre>
  <form
    onsubmit={(e) => {
      e.preventDefault();
      if (by.trim()) onaccept(by.trim());
    }}
  >
    <label
      >Accepted by <input bind:value={by} required maxlength="80" placeholder="your name" /></label
    >
    <Button kind="main" type="submit" disabled={!by.trim()}>Accept licence</Button>
  </form>
  <p class="quiet">Name, time and the text's SHA-256 are saved in the plan.</p>
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
    border: 1px solid var(--strong-line);
    background: var(--paper);
    padding: 6px 10px;
    border-radius: var(--radius);
    margin-left: 8px;
  }
</style>
