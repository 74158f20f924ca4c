<script lang="ts">
  /** All plans as rows: found by typing, ordered by a column, renamed, copied; several are run or deleted at once. */
  import type { PlanLine } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import DeletePlans from './DeletePlans.svelte';
  import { isFree, isReady, listed, turned, type Column, type Order } from './list';
  import PlanRow from './PlanRow.svelte';
  import { startRuns } from './starting';

  interface Props {
    plans: PlanLine[];
    /** Whether there is another bay that a plan can be copied to. */
    copies: boolean;
    oncopy: (plan: PlanLine) => void;
    onchanged: () => void;
  }
  let { plans, copies, oncopy, onchanged }: Props = $props();
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
    leaving = $state.raw<PlanLine[]>([]),
    picked = $state.raw<string[]>([]),
    busy = $state(false);
  let rows = $derived(listed(plans, typed, order));
  let chosen = $derived(rows.filter((plan) => picked.includes(plan.id)));
  let ready = $derived(chosen.filter(isReady)),
    free = $derived(chosen.filter(isFree));
  function sorted(column: Column) {
    if (order.by !== column) return undefined;
    return order.down ? 'descending' : 'ascending';
  }
  function pick(id: string, on: boolean) {
    picked = on ? [...picked, id] : picked.filter((one) => one !== id);
  }
  async function run() {
    busy = true;
    try {
      if (await startRuns(ready.map((plan) => plan.id))) router.go('/runs');
    } catch (error) {
      notices.problem(error);
    } finally {
      busy = false;
      onchanged();
    }
  }
</script>

{#if plans.length > 1}<p class="tools">
    <input bind:value={typed} placeholder="Name, state, kit, bay" aria-label="Filter plans" />
    {#if typed}<span class="quiet">{rows.length} of {plans.length}</span>{/if}
    {#if chosen.length}<span class="several"
        >{count(chosen.length, 'plan')} selected
        <Button disabled={busy || !ready.length} onclick={() => void run()}
          >Check and run {ready.length}</Button
        ><Button
          disabled={busy || !free.length}
          onclick={() => {
            leaving = free;
          }}>Delete {free.length} …</Button
        ></span
      >{/if}
  </p>{/if}
<div class="wide">
  <table>
    <thead
      ><tr
        >{#if plans.length > 1}<th class="tick"
            ><input
              type="checkbox"
              aria-label="Select all plans shown"
              checked={rows.length > 0 && chosen.length === rows.length}
              onchange={(e) => {
                picked = e.currentTarget.checked ? rows.map((plan) => plan.id) : [];
              }}
            /></th
          >{/if}{#each COLUMNS as [id, label] (id)}<th aria-sort={sorted(id)}
            ><button
              onclick={() => {
                order = turned(order, id);
              }}
              >{label}{#if order.by === id}<span aria-hidden="true">{order.down ? ' ▾' : ' ▴'}</span
                >{/if}</button
            ></th
          >{/each}<td></td></tr
      ></thead
    >
    <tbody
      >{#each rows as plan (plan.id)}<PlanRow
          {plan}
          {copies}
          ticks={plans.length > 1}
          ticked={picked.includes(plan.id)}
          onpick={(on) => pick(plan.id, on)}
          oncopy={() => oncopy(plan)}
          ondelete={() => {
            leaving = [plan];
          }}
          onrenamed={onchanged}
        />{:else}<tr
          ><td colspan="8" class="quiet"
            >{plans.length
              ? `No plan matches “${typed}”.`
              : 'No plans. “New plan” creates one with defaults from the kit, the bay and the pools.'}</td
          ></tr
        >{/each}</tbody
    >
  </table>
</div>
{#if leaving.length}<DeletePlans
    plans={leaving}
    onclose={(deleted) => {
      leaving = [];
      if (deleted) onchanged();
    }}
  />{/if}

<style>
  .tools,
  .several {
    display: flex;
    flex-wrap: wrap;
    gap: 6px 12px;
    align-items: center;
    margin: 10px 0 0;
    min-height: 34px;
  }
  .several {
    margin: 0 0 0 auto;
  }

  .wide {
    overflow-x: auto;
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
  .tick {
    width: 26px;
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
</style>
