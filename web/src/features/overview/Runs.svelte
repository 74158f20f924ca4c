<script lang="ts">
  /** All runs of all plans and of host preparation, those that have not ended first. */
  import { get } from '../../lib/api/client';
  import { count } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import {
    isOpen,
    matching,
    narrowed,
    rows,
    SINCE,
    STANDINGS,
    type RunRow,
    type Standing,
  } from './overview';
  import RunTable from './RunTable.svelte';

  let all = $state.raw<RunRow[] | null>(null),
    typed = $state(''),
    standing = $state<Standing>('all'),
    since = $state(0);
  $effect(() => {
    void load();
    // a page in the background asks for nothing
    const timer = setInterval(() => {
      if (!document.hidden) void load();
    }, 5000);
    return () => clearInterval(timer);
  });
  async function load() {
    try {
      const [plans, runs, preparations] = await Promise.all([
        get('/plans'),
        get('/runs'),
        get('/groundwork'),
      ]);
      all = rows(runs, preparations, new Map(plans.map((p) => [p.id, p.title])));
    } catch (error) {
      if (!all) notices.problem(error);
    }
  }
  let shown = $derived(matching(narrowed(all ?? [], standing, since, Date.now() / 1000), typed));
  let open = $derived((all ?? []).filter(isOpen).length);
</script>

<div class="page">
  {#if all}
    <h1>
      {count(all.length, 'run')}. <b>{open ? `${open} not finished` : 'None in progress'}.</b>
    </h1>
    <p class="tools">
      <input bind:value={typed} placeholder="Plan, host, state" aria-label="Filter runs" />
      <select aria-label="State" bind:value={standing}
        >{#each STANDINGS as [id, label] (id)}<option value={id}>{label}</option>{/each}</select
      >
      <select aria-label="Started" bind:value={since}
        >{#each SINCE as [seconds, label] (seconds)}<option value={seconds}>{label}</option
          >{/each}</select
      >
    </p>
    {#if shown.length}<RunTable list={shown} />
    {:else if all.length}<p class="quiet">No run matches.</p>
    {:else}<p class="quiet">
        No runs. Open a <a href="/plans">plan</a> and select “Check and run”.
      </p>{/if}
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
  .tools {
    display: flex;
    gap: 16px;
    align-items: center;
    flex-wrap: wrap;
    margin: 8px 0 12px;
  }
</style>
