<script lang="ts">
  import type { LimitsView } from '../../lib/api/types';
  import { partsOf } from '../../lib/limits';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  interface Props {
    label: string;
    limits: LimitsView | null | undefined;
    onmake: () => Promise<string>;
    onkeep: (value: string) => void;
    onclose: () => void;
  }
  let { label, limits, onmake, onkeep, onclose }: Props = $props();
  let value = $state(''),
    seen = $state(false);
  let parts = $derived(partsOf(value, limits)),
    good = $derived(parts.every((part) => part.met));
  async function generate() {
    const made = await onmake();
    if (made) {
      value = made;
      seen = true;
    }
  }
</script>

<Dialog title={label} {onclose}>
  <form
    onsubmit={(e) => {
      e.preventDefault();
      if (good) onkeep(value);
    }}
  >
    <input
      type={seen ? 'text' : 'password'}
      bind:value
      aria-label={label}
      autocomplete="new-password"
      class="mono"
      aria-describedby="rule"
      required
    />
    <ul id="rule" aria-live="polite">
      {#each parts as part (part.text.split(':')[0])}<li class:met={part.met}>
          <span aria-hidden="true">{part.met ? '✓' : '○'}</span>{part.text}<span class="unseen"
            >{part.met ? ', met' : ', not met yet'}</span
          >
        </li>{:else}<li class="met">Any text will do.</li>{/each}
    </ul>
    <div class="acts">
      <Button kind="main" type="submit" disabled={!value || !good}>Save to keyring</Button><Button
        onclick={() => void generate()}>Generate</Button
      ><Button
        onclick={() => {
          seen = !seen;
        }}>{seen ? 'Hide' : 'Show'}</Button
      >
    </div>
  </form>
  <p class="quiet">The plan stores a reference only; the value stays encrypted in the keyring.</p>
</Dialog>

<style>
  input {
    width: 100%;
    padding: 8px 10px;
    margin-bottom: 8px;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
    font-size: var(--text-s);
    color: var(--soft);
    min-height: 44px;
  }
  li {
    display: flex;
    gap: 8px;
    padding: 1px 0;
  }
  li > span:first-child {
    width: 13px;
    color: var(--muted);
  }
  .met > span:first-child {
    color: var(--good);
  }
  .acts {
    display: flex;
    gap: 8px;
    margin: 12px 0;
  }
</style>
