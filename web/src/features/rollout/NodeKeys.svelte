<script lang="ts">
  /** The SSH host key and certificates by which a node is known, and confirming other ones. */
  import { get, send } from '../../lib/api/client';
  import type { NodeKeys } from '../../lib/api/types';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Copy from '../../lib/ui/Copy.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';

  interface Props {
    plan: string;
    node: string;
    name: string;
    onclose: () => void;
  }
  let { plan, node, name, onclose }: Props = $props();
  let view = $state.raw<NodeKeys | null>(null),
    busy = $state(false);
  let place = $derived(`/deployments/${plan}/nodes/${node}/keys` as const);
  let others = $derived(view?.keys.filter((one) => one.shown && one.shown !== one.pinned) ?? []);
  $effect(() => {
    get(place).then(
      (found) => (view = found),
      (e: unknown) => {
        notices.problem(e);
        onclose();
      },
    );
  });
  async function confirm() {
    busy = true;
    try {
      view = await send('POST', place, {
        keys: others.map((one) => ({ port: one.port, fingerprint: one.shown })),
      });
    } catch (e: unknown) {
      notices.problem(e);
    }
    busy = false;
  }
</script>

<Dialog title="Keys of {name}" {onclose} wide>
  {#if view?.keys.length}
    {#each view.keys as one (one.port)}
      <h3>{one.kind}, port {one.port}</h3>
      <p class="row">
        <span class="quiet">pinned</span>
        <span class="mono">{one.pinned}</span>
      </p>
      <p class="row">
        {#if one.trouble}<span class="quiet">cannot be asked</span>
          <span>{one.trouble}</span>
        {:else if one.shown === one.pinned}<span class="quiet">shown now</span>
          <span>the same</span>
        {:else}<span class="bad">shown now</span>
          <span class="mono">{one.shown} <Copy text={one.shown} what="{one.kind} of {name}" /></span
          >{/if}
      </p>
    {/each}
    {#if others.length}
      <p class="told">
        The node was reinstalled, or the connection is intercepted. Nothing is sent on this port
        until you confirm the new key. Compare the fingerprint on the node’s console first.
      </p>
      <Button kind="main" disabled={busy} onclick={() => void confirm()}>Pin the new key</Button>
    {/if}
  {:else}<p class="quiet">
      {view ? 'Nothing is pinned: the first key that the node shows is kept.' : `Asking ${name} …`}
    </p>{/if}
</Dialog>

<style>
  h3 {
    font-size: var(--text-s);
    margin: 8px 0 2px;
  }
  .row {
    display: grid;
    grid-template-columns: 110px minmax(0, 1fr);
    gap: 8px;
    margin: 2px 0;
    font-size: var(--text-s);
  }
  .mono {
    overflow-wrap: anywhere;
  }
  .bad {
    color: var(--blocker);
  }
  .told {
    margin: 14px 0 12px;
  }
</style>
