<script lang="ts">
  /** The team’s channel and note of a package. */
  import type { PackageView } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';

  interface Props {
    one: PackageView;
    onsave: (channel: string, note: string) => void;
  }
  let { one, onsave }: Props = $props();
  // what is saved is shown again, whoever saved it
  let channel = $derived(one.channel),
    note = $derived(one.note);
</script>

<Section title="Channel and note"
  ><form
    onsubmit={(e) => {
      e.preventDefault();
      onsave(channel, note);
    }}
  >
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
    {#if channel !== one.channel || note !== one.note}<Button kind="main" type="submit">Save</Button
      >{/if}
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
