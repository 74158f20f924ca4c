<script lang="ts">
  /** All plans as rows: found by typing, ordered by a click on a column, copied and deleted. */
  import type { PlanLine } from '../../lib/api/types';
  import { ago, utc } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import { isOpen, MARKS } from '../overview/overview';
  import DeletePlan from './DeletePlan.svelte';
  import { listed, stateOf, turned, type Column, type Order } from './list';
  interface Props {
    plans: PlanLine[];
    /** Whether there is another bay that a plan can be copied to. */
    copies: boolean;
    oncopy: (plan: PlanLine) => void;
    ondeleted: () => void;
  }
  let { plans, copies, oncopy, ondeleted }: Props = $props();
  const COLUMNS: [Column, string][] = [
    ['title', 'Plan'],
    ['state', 'State'],
    ['kit', 'Kit'],
    ['bay', 'Bay'],
    ['nodes', 'Nodes'],
    ['changed', 'Changed'],
  ];
  let typed = $state(''),
    order = $state.raw<Order>({ by: 'title', down: false }),
    leaving = $state.raw<PlanLine | null>(null);
  let rows = $derived(listed(plans, typed, order));
  function sorted(column: Column) {
    if (order.by !== column) return undefined;
    return order.down ? 'descending' : 'ascending';
  }
</script>

{#if plans.length > 1}<p class="tools">
    <input bind:value={typed} placeholder="Name, state, kit, bay" aria-label="Filter plans" />
    {#if typed}<span class="quiet">{rows.length} of {plans.length}</span>{/if}
  </p>{/if}
<table>
  <thead
    ><tr
      >{#each COLUMNS as [id, label] (id)}<th aria-sort={sorted(id)}
          ><button
            onclick={() => {
              order = turned(order, id);
            }}
            >{label}{#if order.by === id}<span aria-hidden="true">{order.down ? ' ▾' : ' ▴'}</span
              >{/if}</button
          ></th
        >{/each}<th></th></tr
    ></thead
  >
  <tbody
    >{#each rows as p (p.id)}<tr
        ><th scope="row"
          ><a href={`/plans/${p.id}${p.run && isOpen(p.run) ? '/run' : ''}`}>{p.title}</a><span
            class="mono quiet">{p.id}</span
          ></th
        ><td><StateMark state={MARKS[p.run?.state ?? ''] ?? 'planned'} label="" /> {stateOf(p)}</td
        ><td>{p.kit}</td><td>{p.bay}</td><td class="mono">{p.nodes}</td><td
          class="quiet"
          title={utc(p.changed_at)}>{ago(Date.now() / 1000 - p.changed_at)}</td
        ><td class="more"
          >{#if copies}<Button kind="link" onclick={() => oncopy(p)}>Copy to another bay …</Button
            >{/if}
          <Button
            kind="link"
            onclick={() => {
              leaving = p;
            }}>Delete …</Button
          ></td
        ></tr
      >{:else}<tr
        ><td colspan="7" class="quiet"
          >{plans.length
            ? `No plan matches “${typed}”.`
            : 'No plans. “New plan” creates one with defaults from the kit, the bay and the pools.'}</td
        ></tr
      >{/each}</tbody
  >
</table>
{#if leaving}<DeletePlan
    plan={leaving}
    onclose={(deleted) => {
      leaving = null;
      if (deleted) ondeleted();
    }}
  />{/if}

<style>
  .tools {
    display: flex;
    gap: 12px;
    align-items: center;
    margin: 10px 0 0;
  }
  table {
    width: 100%;
    border-collapse: collapse;
    margin-top: 4px;
  }
  th,
  td {
    text-align: left;
    padding: 9px 12px 9px 0;
    border-bottom: 1px solid var(--line);
    font-weight: 400;
  }
  thead button {
    all: unset;
    cursor: pointer;
    color: var(--soft);
    font-size: var(--text-s);
  }
  thead button:focus-visible {
    outline: 2px solid var(--accent);
  }
  tbody th a {
    font-weight: 600;
    margin-right: 12px;
  }
  .more > :global(* + *) {
    margin-left: 12px;
  }
  .more {
    text-align: right;
    font-size: var(--text-s);
    white-space: nowrap;
  }
</style>
