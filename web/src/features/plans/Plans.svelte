<script lang="ts">
  import { get, send } from '../../lib/api/client';
  import type { EstateView, KitLine, PlanLine, SharedView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import HeadBar from '../../lib/ui/HeadBar.svelte';
  import CopyPlan from './CopyPlan.svelte';
  import { isOpen } from '../overview/overview';
  import ManyPlans from './ManyPlans.svelte';
  import NewPlan from './NewPlan.svelte';
  import PlanTable from './PlanTable.svelte';
  import Shared from './Shared.svelte';

  let plans = $state.raw<PlanLine[] | null>(null),
    kits = $state.raw<KitLine[]>([]),
    bays = $state.raw<string[]>([]);
  let estate = $state.raw<EstateView | null>(null),
    values = $state.raw<SharedView[]>([]),
    packages = $state.raw<string[]>([]),
    carrying = $state.raw<PlanLine | null>(null);
  const SEE: [string, string][] = [
    ['', 'plans'],
    ['table', 'from a table'],
    ['values', 'shared values'],
  ];
  let see = $derived(router.query.get('see') ?? '');
  /** A bay in the address: a plan for it is to be made. */
  const asked = router.query.get('bay') ?? '';
  let making = $state(asked !== ''),
    kit = $state(''),
    bay = $state(asked);
  let input: HTMLInputElement | undefined = $state();
  $effect(() => {
    void load();
  });
  async function load() {
    try {
      plans = await get('/plans');
      // blockers are counted for a while only: the rest comes with the next answer
      if (plans.some((plan) => plan.blockers === null && !plan.trouble))
        setTimeout(() => void again(), 1000);
      kits = await get('/kits');
      values = await get('/values');
      packages = (await get('/packages')).map((p) => `${p.product} ${p.version}`);
      estate = await get('/estate');
      bays = estate.bays;
      kit ||=
        kits.find((k) => k.id === plans?.[0]?.kit)?.id ??
        kits.find((k) => packages.some((p) => p.startsWith(`${k.product} `)))?.id ??
        kits[0]?.id ??
        '';
      bay ||= bays[0] ?? '';
    } catch (error) {
      notices.problem(error);
    }
  }
  async function again() {
    plans = await get('/plans').catch(() => plans);
  }
  async function bring(files: FileList | null) {
    const file = files?.[0];
    if (!file) return;
    try {
      const made = await send('POST', '/plans', { text: await file.text() });
      router.go(`/plans/${made.id}`);
    } catch (error) {
      notices.problem(error);
    }
    if (input) input.value = '';
  }
  let busy = $derived(plans?.filter((p) => p.run && isOpen(p.run)) ?? []);
</script>

<div class="page">
  <HeadBar>
    <h1>
      {#if plans}{count(plans.length, 'plan')}.
        <b
          >{busy.length
            ? `${busy[0]?.title}: ${busy[0]?.run?.words.plans}`
            : 'No run in progress'}</b
        >.{/if}
    </h1>
    <p class="quiet">A plan describes one rollout. You can export it as a YAML file.</p>
    {#snippet acts()}
      <input
        bind:this={input}
        type="file"
        accept=".yaml,.yml"
        hidden
        onchange={(e) => bring(e.currentTarget.files)}
      /><Button onclick={() => input?.click()}>Import plan …</Button><Button
        kind="main"
        onclick={() => {
          making = !making;
        }}>New plan</Button
      >
    {/snippet}
  </HeadBar>
  <nav class="see" aria-label="Plans">
    {#each SEE as [id, label] (id)}<a
        href={id ? `/plans?see=${id}` : '/plans'}
        aria-current={see === id ? 'page' : undefined}
        >{label}{id === 'values' && values.length ? ` (${values.length})` : ''}</a
      >{/each}
  </nav>
  {#if see === 'table'}{#if estate && kits.length}<ManyPlans
        {kits}
        {bays}
        {values}
        {packages}
        usual={kit}
        onmade={load}
      />{/if}
  {:else if see === 'values'}<Shared {values} onchange={load} />
  {:else}
    {#if making}
      <NewPlan {kits} {bays} bind:kit bind:bay />
    {/if}
    {#if plans}<PlanTable
        {plans}
        copies={bays.length > 1}
        oncopy={(plan) => {
          carrying = plan;
        }}
        onchanged={() => void load()}
      />{/if}
  {/if}
</div>
{#if carrying && estate}<CopyPlan
    plan={carrying}
    {estate}
    onclose={() => {
      carrying = null;
      void load();
    }}
  />{/if}

<style>
  .page {
    padding: 0 20px;
    overflow: auto;
    height: 100%;
  }
  .see {
    display: flex;
    gap: 18px;
    padding: 7px 0 0;
    border-bottom: 1px solid var(--line);
    font-size: var(--text-s);
  }
  .see a {
    color: var(--soft);
    text-decoration: none;
    padding: 2px 0 6px;
    border-bottom: 2px solid transparent;
  }
  .see a:hover {
    color: var(--accent);
  }
  .see [aria-current] {
    color: var(--ink);
    font-weight: 600;
    border-color: var(--ink);
  }
</style>
