<script lang="ts">
  /** All hosts and machines: the wall under several readings, and below it what is asked for. */
  import type { Action, EstateView } from '../../lib/api/types';
  import Frame from '../../lib/ui/Frame.svelte';
  import { router } from '../../lib/router.svelte';
  import EstateBar from './EstateBar.svelte';
  import EstateDetails from './EstateDetails.svelte';
  import { fittingHosts, fittingMachines, SEE } from './filtering';
  import type { EstateData } from './estate.svelte';
  import EstateTable from './EstateTable.svelte';
  import EstateWall from './EstateWall.svelte';
  import { READINGS } from './readings';
  import WallSwitch from './WallSwitch.svelte';

  interface Props {
    data: EstateData;
    estate: EstateView;
    onadd: () => void;
    onprepare: (actions: Action[], hosts: string[]) => void;
  }
  let { data, estate, onadd, onprepare }: Props = $props();
  let filter = $state(''),
    tall = $state(innerHeight);
  let see = $derived(SEE.find(([one]) => one === router.query.get('see'))?.[0] ?? 'facts');
  let reading = $derived(
    READINGS.find(([r]) => r === router.query.get('read'))?.[0] ??
      (see === 'fitness' ? 'findings' : 'memory'),
  );
  let at = $derived(router.query.get('host') ?? '');
  let hosts = $derived(fittingHosts(estate.hosts, filter)),
    machines = $derived(fittingMachines(estate.machines, filter));
  let hurt = $derived(
    new Set(
      (data.fitness?.violations ?? []).filter((v) => v.severity !== 'note').map((v) => v.host),
    ).size,
  );
  function go(change: Record<string, string>) {
    const query = new URLSearchParams(router.query);
    for (const [key, value] of Object.entries(change))
      if (value) query.set(key, value);
      else query.delete(key);
    router.go(`/estate?${query.toString()}`, true);
  }
  const choose = (name: string) => go({ host: name === at ? '' : name });
</script>

<svelte:window bind:innerHeight={tall} />
<Frame>
  {#snippet bar()}<EstateBar
      {estate}
      fitness={data.fitness}
      busy={data.busy}
      {onadd}
      onprepare={() => onprepare([], estate.hosts.some((h) => h.name === at) ? [at] : [])}
      onread={() => void data.read()}
    />{/snippet}
  {#snippet left()}<WallSwitch {reading} onread={(r) => go({ read: r })} />
    <EstateWall
      estate={{ hosts, machines, now: estate.now }}
      fitness={data.fitness}
      {reading}
      height={Math.round(Math.max(190, Math.min(380, tall * 0.33)))}
      chosen={at}
      onchoose={(_, name) => choose(name)}
    />
    <div class="tools">
      <input bind:value={filter} placeholder="Filter by typing" aria-label="Filter" />
      <span role="group" aria-label="What is shown below"
        >{#each SEE as [one, label] (one)}<button
            aria-pressed={see === one}
            onclick={() => go({ see: one, read: '' })}
            >{label}{one === 'fitness' && hurt ? `: ${hurt} to fix` : ''}</button
          >{/each}</span
      >
    </div>
    <EstateTable
      {see}
      {data}
      {estate}
      {hosts}
      {machines}
      {filter}
      chosen={at}
      onchoose={choose}
      onopen={(kind, name) => router.go(`/estate/${kind}s/${name}`)}
      onprepare={(actions) => onprepare(actions, [])}
    />{/snippet}
  {#snippet details()}<EstateDetails
      {estate}
      fitness={data.fitness}
      {at}
      busy={data.busy !== ''}
      onread={(name) => void data.read([name])}
      onprepare={(actions) => onprepare(actions, [])}
    />{/snippet}
</Frame>

<style>
  .tools {
    display: flex;
    flex-wrap: wrap;
    gap: 4px 18px;
    padding: 4px 0;
    flex: none;
    font-size: var(--text-s);
  }
  input {
    border: 0;
    border-bottom: 1px solid var(--strong-line);
    background: none;
    padding: 2px 4px;
    border-radius: 0;
  }
  button {
    border: 0;
    background: none;
    padding: 2px 0;
    margin-right: 14px;
    cursor: pointer;
    color: var(--muted);
    border-bottom: 2px solid transparent;
  }
  [aria-pressed='true'] {
    color: var(--ink);
    border-color: var(--ink);
  }
</style>
