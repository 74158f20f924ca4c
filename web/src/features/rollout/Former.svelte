<script lang="ts">
  /** System disks that upgrades left behind, and removing them. */
  import { get, send } from '../../lib/api/client';
  import type { FormerDisks } from '../../lib/api/types';
  import { count, size } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import TypedName from '../../lib/ui/TypedName.svelte';

  interface Props {
    plan: string;
    onclose: () => void;
  }
  let { plan, onclose }: Props = $props();
  const SHOWN = 12;
  let view = $state.raw<FormerDisks | null>(null),
    busy = $state(false);
  let place = $derived(`/deployments/${plan}/former` as const);
  let bytes = $derived(view?.disks.reduce((sum, one) => sum + one.physical_bytes, 0) ?? 0);
  let runs = $derived([...new Set(view?.disks.map((one) => one.needed_by))]);
  $effect(() => {
    get(place).then(
      (found) => (view = found),
      (e: unknown) => notices.problem(e),
    );
  });
  async function remove() {
    busy = true;
    try {
      await send('POST', place, { confirm: plan });
      onclose();
    } catch (e: unknown) {
      notices.problem(e);
    }
    busy = false;
  }
</script>

<Dialog title="Former system disks" {onclose}>
  {#if view?.disks.length}
    <p>
      {count(view.disks.length, 'volume')} of earlier versions, {size(bytes)}. They are kept so that
      {count(runs.length, 'upgrade')} can be rolled back (run {runs.join(', ')}). Without them that
      is no longer possible, and older runs cannot be rolled back either; retiring still is.
    </p>
    <ul>
      {#each view.disks.slice(0, SHOWN) as one (one.host + one.volume)}<li>
          <span>{one.name}</span><span class="quiet mono">{one.datastore}/{one.volume}</span><span
            class="quiet">{size(one.physical_bytes)}</span
          >
        </li>{/each}
      {#if view.disks.length > SHOWN}<li>
          <span class="quiet">and {count(view.disks.length - SHOWN, 'more volume')}</span>
        </li>{/if}
    </ul>
    <TypedName
      wanted={plan}
      label="Remove {count(view.disks.length, 'volume')}"
      {busy}
      ongo={() => void remove()}
      {onclose}
    />
  {:else}<p class="quiet">
      {view ? 'No former system disk is left.' : 'Looking for former system disks …'}
    </p>{/if}
</Dialog>

<style>
  ul {
    list-style: none;
    margin: 10px 0 0;
    padding: 0;
    font-size: var(--text-s);
  }
  li {
    display: grid;
    grid-template-columns: max-content minmax(0, 1fr) max-content;
    gap: 12px;
    padding: 2px 0;
  }
  .mono {
    overflow-wrap: anywhere;
  }
</style>
