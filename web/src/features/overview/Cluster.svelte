<script lang="ts">
  /** A plan as a small picture: a block per node, filled when the node is deployed. */
  import type { PlanLine } from '../../lib/api/types';
  import { ago, count } from '../../lib/format';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import { stateOf } from '../plans/list';
  import { MARKS } from './overview';
  let { plan }: { plan: PlanLine } = $props();
  const MOST = 60;
  let state = $derived(plan.run?.state ?? '');
  let differs = $derived(state === 'done' && (plan.drift ?? 0) > 0);
  let href = $derived(
    plan.run && state !== 'undone' && !differs ? `/plans/${plan.id}/run` : `/plans/${plan.id}`,
  );
  let all = $derived(plan.run && state !== 'undone' ? plan.run.nodes : plan.nodes);
  let deployed = $derived(plan.run && state !== 'undone' ? plan.run.deployed : 0);
  let blocks = $derived(Math.min(all, MOST));
</script>

<a {href} class={state || 'new'}>
  <span class="head"
    ><StateMark state={differs ? 'failed' : (MARKS[state] ?? 'planned')} label="" />
    <b>{plan.title}</b></span
  >
  <span class="blocks" aria-hidden="true"
    >{#each { length: blocks } as _, i (i)}<i class:deployed={i < deployed}
      ></i>{/each}{#if all > MOST}<em>+{all - MOST}</em>{/if}</span
  >
  <span class="words">{stateOf(plan)}</span>
  <span class="quiet">{count(all, 'node')} · {plan.kit} · {plan.bay}</span>
  <span class="quiet"
    >{plan.run
      ? `run started ${ago(Date.now() / 1000 - plan.run.started_at)}`
      : `changed ${ago(Date.now() / 1000 - plan.changed_at)}`}</span
  >
</a>

<style>
  a {
    display: grid;
    gap: 4px;
    padding: 10px 12px;
    border: 1px solid var(--line);
    background: var(--surface);
    color: inherit;
    text-decoration: none;
    height: 100%;
    box-sizing: border-box;
    align-content: start;
  }
  a:hover {
    border-color: var(--accent);
  }
  .head {
    display: flex;
    gap: 6px;
    align-items: center;
  }
  .blocks {
    display: flex;
    flex-wrap: wrap;
    gap: 3px;
    padding: 4px 0;
  }
  i {
    width: 18px;
    height: 10px;
    border: 1px solid var(--role-1);
    box-sizing: border-box;
  }
  .deployed {
    background: var(--role-1);
  }
  .new i,
  .undone i {
    border-style: dashed;
  }
  em {
    font-style: normal;
    font-size: 12px;
  }
  .quiet {
    font-size: 12px;
  }
</style>
