<script lang="ts">
  /** Taking a whole deployment away: what goes, node by node, and the plan's name to type. */
  import { get, send } from '../../lib/api/client';
  import type { RetiringView } from '../../lib/api/types';
  import { count, size } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import TypedName from '../../lib/ui/TypedName.svelte';

  interface Props {
    plan: string;
    onbegun: () => void;
    onclose: () => void;
  }
  let { plan, onbegun, onclose }: Props = $props();
  const SHOWN = 8;
  let view = $state.raw<RetiringView | null>(null),
    keep = $state(false),
    busy = $state(false);
  let place = $derived(`/deployments/${plan}/retiring` as const);
  let vms = $derived(view?.nodes.filter((one) => !one.machine) ?? []);
  let machines = $derived(view?.nodes.filter((one) => one.machine) ?? []);
  let data = $derived(vms.reduce((sum, one) => sum + one.data_disks, 0));
  let bytes = $derived(vms.reduce((sum, one) => sum + one.data_bytes, 0));
  let freed = $derived(view?.nodes.reduce((sum, one) => sum + one.addresses.length, 0) ?? 0);
  $effect(() => {
    get(place).then(
      (found) => (view = found),
      (e: unknown) => notices.problem(e),
    );
  });
  async function begin() {
    busy = true;
    try {
      await send('POST', place, { confirm: plan, keep_data: keep });
      onbegun();
    } catch (e: unknown) {
      notices.problem(e);
    }
    busy = false;
  }
</script>

<Dialog title="Retire {plan}" {onclose}>
  {#if view}
    <p>
      {#if vms.length}Deletes {count(vms.length, 'VM')} with {vms.length === 1 ? 'its' : 'their'}
        {keep ? 'other disks' : 'disks'} and config ISOs.{/if}
      {#if machines.length}Switches off {count(machines.length, 'machine')}; what was written there
        stays on {machines.length === 1 ? 'its drive' : 'their drives'}.{/if}
      {count(freed, 'address', 'addresses')} and the name records that were made are free again.
      {count(view.left.length, 'run')} of this plan {view.left.length === 1 ? 'is' : 'are'} rolled back.
      This cannot be undone. The plan stays.
    </p>
    <ul>
      {#each view.nodes.slice(0, SHOWN) as one (one.node)}<li>
          <span>{one.name}</span><span class="quiet"
            >{one.machine
              ? `machine ${one.where}`
              : `on ${one.where}, ${count(one.disks + one.data_disks, 'disk')}`}</span
          >
        </li>{/each}
      {#if view.nodes.length > SHOWN}<li>
          <span class="quiet">and {count(view.nodes.length - SHOWN, 'more node')}</span>
        </li>{/if}
    </ul>
    <TypedName
      wanted={plan}
      label="Retire {count(view.nodes.length, 'node')}"
      {busy}
      ongo={() => void begin()}
      {onclose}
      >{#if data}<label class="keep"
          ><input type="checkbox" bind:checked={keep} />
          Keep {count(data, 'data disk')} ({size(bytes)}) on {data === 1
            ? 'its datastore'
            : 'their datastores'}</label
        >{/if}</TypedName
    >
  {:else}<p class="quiet">Reading what is deployed …</p>{/if}
</Dialog>

<style>
  ul {
    list-style: none;
    margin: 10px 0 0;
    padding: 0;
    font-size: var(--text-s);
  }
  li {
    display: flex;
    gap: 12px;
    padding: 2px 0;
  }
  .keep {
    display: flex;
    gap: 8px;
    align-items: baseline;
    margin-bottom: 10px;
  }
</style>
