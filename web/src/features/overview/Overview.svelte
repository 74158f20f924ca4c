<script lang="ts">
  /** The first page: what needs a person, what is running, what is deployed, what is planned. */
  import { get } from '../../lib/api/client';
  import type { GroundLine, PlanLine, RunLine } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Cluster from './Cluster.svelte';
  import { stateOf } from '../plans/list';
  import { grouped, rows } from './overview';
  import RunTable from './RunTable.svelte';

  let plans = $state.raw<PlanLine[] | null>(null),
    runs = $state.raw<RunLine[]>([]),
    preparations = $state.raw<GroundLine[]>([]);
  let groups = $derived(grouped(plans ?? []));
  let titles = $derived(new Map((plans ?? []).map((p) => [p.id, p.title])));
  let latest = $derived(rows(runs, preparations, titles).slice(0, 8));
  const SHOWN = 5000;
  $effect(() => {
    void load();
    // a page in the background asks for nothing
    const timer = setInterval(() => {
      if (!document.hidden) void load();
    }, SHOWN);
    return () => clearInterval(timer);
  });
  async function load() {
    try {
      [plans, runs, preparations] = await Promise.all([
        get('/plans'),
        get('/runs'),
        get('/groundwork'),
      ]);
    } catch (error) {
      // the banner tells of a server that does not answer
      if (!plans) notices.problem(error);
    }
  }
  let first = $derived(groups.attention[0]);
  const SECTIONS = [
    ['attention', 'Needs attention'],
    ['running', 'Running'],
    ['deployed', 'Deployed'],
    ['planned', 'Not deployed'],
  ] as const;
</script>

<div class="page">
  {#if plans}
    <h1>
      {#if first}{count(groups.attention.length, 'plan')}
        {groups.attention.length === 1 ? 'needs' : 'need'} attention.
        <b>{first.title}: {stateOf(first).replace('needs attention: ', '')}.</b>
      {:else if groups.running.length}<b>{count(groups.running.length, 'run')} in progress.</b>
      {:else if plans.length}{count(groups.deployed.length, 'cluster')} deployed, {count(
          groups.planned.length,
          'plan',
        )} not deployed. <b>No run in progress.</b>
      {:else}<b>No plans.</b> Add hosts and a package, then create a plan.{/if}
    </h1>
    {#if !plans.length}<p class="steps">
        1. <a href="/estate">Add hosts</a> · 2. <a href="/packages">Import a package</a> · 3.
        <a href="/plans">Create a plan</a>
      </p>{/if}
    <div class="groups">
      {#each SECTIONS as [id, label] (id)}{#if groups[id].length}<section
            aria-label={label}
            class:many={groups[id].length > 2}
          >
            <h2>{label} <span class="quiet">{groups[id].length}</span></h2>
            <ul>
              {#each groups[id] as plan (plan.id)}<li><Cluster {plan} /></li>{/each}
            </ul>
          </section>{/if}{/each}
    </div>
    {#if latest.length}<section aria-label="Latest runs">
        <h2>Latest runs <a href="/runs">all runs</a></h2>
        <RunTable list={latest} />
      </section>{/if}
  {/if}
</div>

<style>
  .page {
    padding: 12px 20px 24px;
    overflow: auto;
    height: 100%;
    box-sizing: border-box;
  }
  h1 {
    font-size: 20px;
    font-weight: 400;
    margin: 0 0 8px;
  }
  h2 {
    font-size: 14px;
    margin: 20px 0 8px;
    border-bottom: 1px solid var(--line);
    padding-bottom: 4px;
  }
  h2 a,
  h2 span {
    font-weight: 400;
    margin-left: 8px;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
    display: grid;
    grid-template-columns: repeat(auto-fill, minmax(230px, 1fr));
    gap: 12px;
  }
  /* few clusters stand beside each other, many have the whole width */
  .groups {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(min(100%, 290px), 1fr));
    gap: 0 28px;
  }
  .many {
    grid-column: 1 / -1;
  }
  .steps {
    margin: 4px 0 0;
  }
</style>
