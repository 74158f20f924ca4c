<script lang="ts">
  /** One host, drawn as what it is: its compute, its interfaces to networks, its datastores, its disks, its VMs. */
  import { get } from '../../lib/api/client';
  import type { Action, OneHost } from '../../lib/api/types';
  import { notices } from '../../lib/notices.svelte';
  import type { EstateData } from './estate.svelte';
  import HostAbout from './HostAbout.svelte';
  import HostBar from './HostBar.svelte';
  import HostCompute from './HostCompute.svelte';
  import HostDisks from './HostDisks.svelte';
  import HostNetworks from './HostNetworks.svelte';
  import HostSettings from './HostSettings.svelte';
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
  <div class="page">
    <HostBar {one} {data} {onprepare} />
    <div class="body">
      <div class="draw" class:faded={old}>
        <HostCompute {one} />
        <HostNetworks {one} />
        <div class="halves">
          <HostStores {one} onadd={() => onprepare([], [name])} />
          <HostDisks {one} />
        </div>
        <HostVms {one} />
      </div>
      <aside aria-label="Details">
        <HostAbout {one} {data} {onprepare} />
        <HostSettings {one} {data} />
      </aside>
    </div>
  </div>
{/if}

<style>
  .page {
    display: flex;
    flex-direction: column;
    height: 100%;
    padding: 0 20px;
    min-height: 0;
  }
  .body {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 316px;
    flex: 1;
    min-height: 0;
  }
  .draw {
    overflow: auto;
    padding: 10px 18px 20px 0;
  }
  .faded {
    opacity: 0.75;
  }
  aside {
    border-left: 1px solid var(--line);
    padding: 10px 0 20px 18px;
    overflow: auto;
  }
  .halves {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 26px;
  }
  @media (max-width: 900px) {
    .page {
      overflow: auto;
    }
    .body,
    .halves {
      display: block;
    }
    aside {
      border: 0;
      padding: 0 0 30px;
    }
  }
</style>
