<script lang="ts">
  /** The deployment as it was built on a day, and what changed between two days. */
  import { get } from '../../lib/api/client';
  import type { AsBuiltView, PlanView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import Section from '../ledger/Section.svelte';
  import { endOf, today } from './history';

  let { plan }: { plan: PlanView } = $props();
  let on = $state(today()),
    since = $state(''),
    found = $state.raw<AsBuiltView | null>(null),
    trouble = $state('');
  const SHOWN = ['host', 'datastore', 'address', 'size', 'package', 'vm', 'run'];
  $effect(() => {
    void [plan.version, plan.runs[0]?.state];
    if (!on) return;
    const query = `at=${endOf(on)}${since ? `&since=${endOf(since)}` : ''}`;
    get(`/deployments/${plan.id}/built?${query}`)
      .then((answer) => {
        [found, trouble] = [answer, ''];
      })
      .catch((error: Error) => {
        trouble = error.message;
      });
  });
</script>

<Section title="As built" aside={found ? count(found.nodes.length, 'node') : ''}>
  <div class="days">
    <label>on <input type="date" bind:value={on} max={today()} /></label>
    <label>compared with <input type="date" bind:value={since} max={on} /></label>
  </div>
  {#if trouble}<p class="quiet">{trouble}</p>
  {:else if found && !found.nodes.length}<p class="quiet">Nothing was deployed on that day.</p>{/if}
  {#if found && since}
    {#if !found.changed.length}<p>Nothing changed between the two days.</p>{/if}
    <ul>
      {#each found.changed as one, n (n)}<li>
          <b>{one.name}</b>
          {#if one.what === 'changed'}{one.label}:
            <span class="mono">{one.was || 'nothing'} → {one.now || 'nothing'}</span
            >{:else}{one.what}{/if}
        </li>{/each}
    </ul>
  {:else if found}
    {#each found.nodes as node (node.node)}<details>
        <summary>{node.values.name}</summary>
        <dl>
          {#each SHOWN.filter((column) => node.values[column]) as column (column)}<dt>
              {found.labels[column] ?? column}
            </dt>
            <dd class="mono">{node.values[column]}</dd>{/each}
        </dl>
      </details>{/each}
  {/if}
</Section>

<style>
  .days {
    display: flex;
    flex-wrap: wrap;
    gap: 4px 12px;
    margin-bottom: 6px;
    font-size: var(--text-s);
  }
  ul,
  details,
  p {
    font-size: var(--text-s);
    margin: 0 0 4px;
  }
  ul {
    list-style: none;
    padding: 0;
  }
  li {
    padding: 2px 0;
    overflow-wrap: anywhere;
  }
  dl {
    display: grid;
    grid-template-columns: max-content minmax(0, 1fr);
    gap: 1px 10px;
    margin: 2px 0 6px 14px;
  }
  dt {
    color: var(--soft);
  }
  dd {
    margin: 0;
    overflow-wrap: anywhere;
  }
</style>
