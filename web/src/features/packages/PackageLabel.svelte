<script lang="ts">
  /** The team’s channel and note of a package. */
  import type { PackageView } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';

  interface Props {
    one: PackageView;
    onsave: (channel: string, note: string, product: string, version: string) => void;
  }
  let { one, onsave }: Props = $props();
  // what is saved is shown again, whoever saved it
  let channel = $derived(one.channel),
    note = $derived(one.note),
    product = $derived(one.product),
    version = $derived(one.version);
  /** A file without a descriptor says neither itself. */
  let bare = $derived(one.kind !== 'ova' && one.kind !== 'ovf');
  let changed = $derived(
    channel !== one.channel ||
      note !== one.note ||
      product !== one.product ||
      version !== one.version,
  );
</script>

<Section title={bare ? 'Name, channel and note' : 'Channel and note'}
  ><form
    onsubmit={(e) => {
      e.preventDefault();
      onsave(channel, note, product, version);
    }}
  >
    {#if bare}
      <label>Product <input bind:value={product} maxlength="80" required /></label>
      <label>Version <input bind:value={version} maxlength="80" required /></label>
    {/if}
    <label
      >Channel <input
        bind:value={channel}
        list="channels"
        maxlength="40"
        placeholder="none"
      /></label
    ><datalist id="channels"
      ><option value="stable"></option><option value="candidate"></option></datalist
    >
    <label
      >Note <textarea
        bind:value={note}
        rows="2"
        maxlength="4000"
        placeholder="what the team should know"></textarea></label
    >
    {#if changed}<Button kind="main" type="submit">Save</Button>{/if}
  </form></Section
>

<style>
  form {
    display: grid;
    gap: 8px;
    justify-items: start;
  }
  label {
    display: grid;
    gap: 2px;
    width: 100%;
    font-size: var(--text-s);
    color: var(--muted);
  }
</style>
