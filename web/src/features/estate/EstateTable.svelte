<script lang="ts">
  /** What stands below the estate's wall: facts, readiness, networks, pools, drives, preparation or limits. */
  import type { Action, EstateView } from '../../lib/api/types';
  import Later from '../../lib/ui/Later.svelte';
  import type { EstateData } from './estate.svelte';
  import Fitness from './Fitness.svelte';
  import HostTable from './HostTable.svelte';
  import MachineTable from './MachineTable.svelte';
  import { parts } from './parts';
  import PreparationTable from './PreparationTable.svelte';
  import RunLimits from './RunLimits.svelte';

  interface Props {
    see: string;
    data: EstateData;
    estate: EstateView;
    /** Those that the filter lets through. */
    hosts: EstateView['hosts'];
    machines: EstateView['machines'];
    filter: string;
    chosen: string;
    onchoose: (name: string) => void;
    onopen: (kind: 'host' | 'machine', name: string) => void;
    onprepare: (actions: Action[]) => void;
  }
  let { see, data, estate, hosts, machines, filter, chosen, onchoose, onopen, onprepare }: Props =
    $props();
  let nets = $derived(estate.networks.map((one) => one.name));
  let bays = $derived([
    ...new Set([...estate.machines.map((m) => m.machine.bay), ...estate.hosts.map((h) => h.bay)]),
  ]);
  let rows = $derived([
    ...hosts.map((h) => ({
      name: h.name,
      bay: h.bay,
      key: `${h.site} · ${h.bay}`,
      machine: false,
    })),
    ...machines.map(({ machine: m }) => ({
      name: m.name,
      bay: m.bay,
      key: `${m.site} · ${m.bay}`,
      machine: true,
    })),
  ]);
</script>

<div class="table">
  {#if see === 'fitness' && data.fitness}<Fitness
      fitness={data.fitness}
      {rows}
      {chosen}
      onchoose={(r) => onchoose(r.name)}
      onrepair={onprepare}
      onjudged={(found) => data.judged(found)}
    />
  {:else if see === 'networks'}<Later
      load={parts.networks}
      {estate}
      {hosts}
      onchoose={(name) => onopen('host', name)}
      onchanged={() => void data.load()}
    />
  {:else if see === 'drives'}<Later load={parts.drives} {bays} />
  {:else if see === 'limits'}<RunLimits />
  {:else if see === 'pools'}<Later load={parts.pools} {filter} networks={estate.networks} />
  {:else if see === 'groundwork'}<PreparationTable onprepare={() => onprepare([])} />
  {:else}
    <HostTable {hosts} {nets} now={estate.now} {chosen} {onchoose} {onopen} />
    {#if machines.length}<MachineTable
        {machines}
        now={estate.now}
        {chosen}
        {onchoose}
        {onopen}
      />{/if}
  {/if}
</div>

<style>
  .table {
    overflow: auto;
    flex: 1;
    min-height: 0;
    border-top: 1px solid var(--strong-line);
  }
</style>
