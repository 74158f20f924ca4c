<script lang="ts">
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  interface Props { label: string; rule: string; onmake: () => Promise<string>; onkeep: (value: string) => void; onclose: () => void }
  let { label, rule, onmake, onkeep, onclose }: Props = $props();
  let value = $state(''), seen = $state(false);
  let kinds = $derived([/[a-z]/, /[A-Z]/, /\d/, /[^A-Za-z0-9]/].filter((kind) => kind.test(value)).length);
  async function generate() {
    const made = await onmake();
    if (made) { value = made; seen = true; }
  }
</script>

<Dialog title={label} {onclose}>
  <form onsubmit={(e) => { e.preventDefault(); onkeep(value); }}>
    <input type={seen ? 'text' : 'password'} bind:value aria-label={label} autocomplete="new-password" class="mono" required />
    <p class="quiet">{rule || 'Any text.'} Typed: {value.length} characters, {kinds} of 4 kinds.</p>
    <div class="acts"><Button kind="main" type="submit" disabled={!value}>Keep in the keyring</Button><Button onclick={() => void generate()}>Make one</Button><Button onclick={() => { seen = !seen; }}>{seen ? 'Hide' : 'Show'}</Button></div>
  </form>
  <p class="quiet">The plan gets a reference; the value never leaves the keyring in clear.</p>
</Dialog>

<style>
  input { width: 100%; border: 1px solid var(--strong-line); background: var(--paper); padding: 8px 10px; border-radius: var(--radius); margin-bottom: 6px; }
  .acts { display: flex; gap: 8px; margin: 12px 0; }
</style>
