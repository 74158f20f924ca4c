<script lang="ts">
  /** Everything that can be deployed on: all of it, or the page of one host, machine or preparation run. */
  import type { Action } from '../../lib/api/types';
  import { router } from '../../lib/router.svelte';
  import Later from '../../lib/ui/Later.svelte';
  import { EstateData } from './estate.svelte';
  import EstateEmpty from './EstateEmpty.svelte';
  import EstatePage from './EstatePage.svelte';
  import { parts } from './parts';

  const data = new EstateData();
  let estate = $derived(data.view);
  let adding = $state(false),
    preparing = $state.raw<{ actions: Action[]; hosts: string[] } | null>(null);
  let place = $derived(router.parts[1] ?? ''),
    name = $derived(router.parts[2] ?? '');
  let empty = $derived(estate !== null && !estate.hosts.length && !estate.machines.length);
  /** Networks and pools can be made before there are hosts. */
  let asked = $derived(['networks', 'pools'].includes(router.query.get('see') ?? ''));
  let bays = $derived([
    ...new Set([
      ...(estate?.hosts.map((h) => h.bay) ?? []),
      ...(estate?.machines.map((m) => m.machine.bay) ?? []),
    ]),
  ]);
  /** The login that most hosts have. */
  let login = $derived.by(() => {
    const found = new Map<string, number>();
    for (const { credential = '' } of estate?.hosts ?? [])
      found.set(credential, (found.get(credential) ?? 0) + 1);
    return [...found].sort((a, b) => b[1] - a[1])[0]?.[0] ?? '';
  });
  $effect(() => {
    void place;
    void data.load();
  }); // whoever comes back from a page of one thing sees what became of it
  const prepare = (actions: Action[], hosts: string[]) => {
    preparing = { actions, hosts };
  };
  const add = () => {
    adding = true;
  };
</script>

{#if place === 'hosts' && name}{#key name}<Later
      load={parts.hostPage}
      {name}
      {data}
      onprepare={prepare}
    />{/key}
{:else if place === 'machines' && name}{#key name}<Later
      load={parts.machinePage}
      {name}
      {data}
    />{/key}
{:else if place === 'groundwork' && name}{#key name}<Later
      load={parts.groundPage}
      id={name}
    />{/key}
{:else if empty && !asked}<EstateEmpty onadd={add} networks={estate?.networks.length ?? 0} />
{:else if estate}<EstatePage {data} {estate} onadd={add} onprepare={prepare} />{/if}
{#if adding && estate}<Later
    load={parts.addHosts}
    {login}
    {bays}
    sites={[...new Set(estate.hosts.map((h) => h.site))]}
    onadded={(view) => {
      void data.take(view);
    }}
    onclose={() => {
      adding = false;
    }}
  />{/if}
{#if preparing && estate}<Later
    load={parts.prepare}
    {estate}
    remedies={preparing.actions}
    hosts={preparing.hosts}
    onclose={() => {
      preparing = null;
    }}
  />{/if}
