<script lang="ts">
  /** What happened to a plan's deployment, the newest first, day by day. */
  import { get } from '../../lib/api/client';
  import type { HistoryEntry, PlanView } from '../../lib/api/types';

  import Section from '../ledger/Section.svelte';
  import AsBuilt from './AsBuilt.svelte';
  import { byDay, KINDS, timeOf } from './history';

  let { plan }: { plan: PlanView } = $props();
  let found = $state<HistoryEntry[] | null>(null),
    trouble = $state(''),
    chosen = $state('');
  let names = $derived(new Map(plan.nodes.map((one) => [one.id, one.name])));
  let days = $derived(byDay((found ?? []).filter((one) => !chosen || one.kind === chosen)));
  $effect(() => {
    // again after each run and each change of the plan
    void [plan.version, plan.runs[0]?.state];
    get(`/deployments/${plan.id}/history`)
      .then((answer) => {
        found = answer;
      })
      .catch((error: Error) => {
        trouble = error.message;
      });
  });
</script>

<Section title="History" aside={found ? String(found.length) : ''}>
  <div class="kinds" role="group" aria-label="Only">
    {#each KINDS as [kind, label] (kind)}<button
        aria-pressed={chosen === kind}
        onclick={() => {
          chosen = kind;
        }}>{label}</button
      >{/each}
  </div>
  {#if trouble}<p class="quiet">{trouble}</p>{:else if found && !days.length}<p class="quiet">
      Nothing of this kind yet.
    </p>{/if}
  {#each days as day (day.name)}<h3>{day.name}</h3>
    <ol>
      {#each day.entries as one, n (n)}<li data-kind={one.kind}>
          <time class="mono">{timeOf(one.at)}</time>
          <span
            >{#if one.node}<b>{names.get(one.node) ?? one.node}</b>
            {/if}{#if one.run}<a
                href={`/plans/${plan.id}/${one.kind === 'checks' ? 'acceptance' : 'run'}?run=${one.run}`}
                >{one.words}</a
              >{:else}{one.words}{/if}{#if one.detail}<span class="mono quiet detail"
                >{one.detail}</span
              >{/if}</span
          >
        </li>{/each}
    </ol>{/each}
</Section>
{#if plan.runs.length}<AsBuilt {plan} />{/if}

<style>
  .kinds {
    display: flex;
    gap: 10px;
    margin-bottom: 6px;
    font-size: var(--text-s);
  }
  button {
    border: 0;
    background: none;
    padding: 1px 0;
    color: var(--soft);
    cursor: pointer;
  }
  [aria-pressed='true'] {
    color: var(--ink);
    font-weight: 600;
  }
  h3 {
    font-size: var(--text-s);
    margin: 8px 0 3px;
  }
  ol {
    list-style: none;
    margin: 0;
    padding: 0 0 0 9px;
    border-left: 1px solid var(--line);
    font-size: var(--text-s);
  }
  li {
    display: grid;
    grid-template-columns: 62px minmax(0, 1fr);
    gap: 8px;
    padding: 2px 0;
    position: relative;
    align-items: baseline;
  }
  li::before {
    content: '';
    position: absolute;
    left: -12px;
    top: 9px;
    width: 5px;
    height: 5px;
    background: var(--strong-line);
  }
  li[data-kind='run']::before {
    background: var(--accent);
  }
  li[data-kind='drift']::before {
    background: var(--blocker);
  }
  .detail {
    display: block;
    overflow-wrap: anywhere;
  }
  p {
    font-size: var(--text-s);
  }
</style>
