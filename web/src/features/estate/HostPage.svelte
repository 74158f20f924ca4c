<script lang="ts">
  /** One host, drawn as what it is: its compute, its interfaces to networks, its datastores, its disks, its VMs. */
  import { get } from '../../lib/api/client';
  import type { Action, OneHost } from '../../lib/api/types';
  import { notices } from '../../lib/notices.svelte';
  import Frame from '../../lib/ui/Frame.svelte';
  import type { EstateData } from './estate.svelte';
  import HostAbout from './HostAbout.svelte';
  import HostBar from './HostBar.svelte';
  import HostCompute from './HostCompute.svelte';
  import HostDisks from './HostDisks.svelte';
  import HostEmptying from './HostEmptying.svelte';
  import HostNetworks from './HostNetworks.svelte';
  import Settings from './Settings.svelte';
  import HostStores from './HostStores.svelte';
  import HostVms from './HostVms.svelte';

  interface Props {
    name: string;
    data: EstateData;
    onprepare: (actions: Action[], hosts: string[]) => void;
  }
  let { name, data, onprepare }: Props = $props();
  let one = $state.raw<OneHost | null>(null);
  $effect(() => {
    void data.view;
    const wanted = name;
    get(`/estate/hosts/${wanted}`)
      .then((found) => {
        if (wanted === name) one = found;
      })
      .catch((e: unknown) => notices.problem(e));
  });
  let old = $derived(
    one !== null && (one.now - (one.facts.read_at ?? one.now) > 86400 || one.facts.trouble !== ''),
  );
</script>

{#if one}
  {@const host = one}
  <Frame>
    {#snippet bar()}<HostBar one={host} {data} {onprepare} />{/snippet}
    {#snippet left()}<div class="draw" class:faded={old}>
        <HostCompute one={host} />
        <HostNetworks one={host} />
        <div class="halves">
          <HostStores one={host} onadd={() => onprepare([], [name])} />
          <HostDisks one={host} />
        </div>
        <HostVms one={host} />
        <HostEmptying one={host} />
      </div>{/snippet}
    {#snippet details()}<HostAbout one={host} {data} {onprepare} /><Settings
        thing={host.host}
        kind="hosts"
        {data}
      />{/snippet}
  </Frame>
{/if}

<style>
  .draw {
    overflow: auto;
    padding: 10px 0 20px;
  }
  .faded {
    opacity: 0.75;
  }
  .halves {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(min(100%, 280px), 1fr));
    gap: 0 26px;
  }
</style>
