<script lang="ts">
  /** The right side of a plan's page: findings and capacity, or the answer to a question of design. */
  import type { Finding, PlanView } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';
  import Later from '../../lib/ui/Later.svelte';
  import PlanLedger from '../ledger/PlanLedger.svelte';
  import { parts } from './parts';
  import { QUESTIONS, type Place } from './place';
  import type { Rollout } from './rollout.svelte';

  interface Props {
    rollout: Rollout;
    plan: PlanView;
    place: Place;
    node: string;
    lost: string[];
    onfix: (finding: Finding) => void;
    onagain: (node: string) => void;
    onrepair: (nodes: string[]) => void;
    onstage: (stage: string) => void;
    onlost: (host: string) => void;
    onformer: () => void;
    onkeys: (node: string, name: string) => void;
    onadopt: () => void;
    onretire: () => void;
  }
  let {
    rollout,
    plan,
    place,
    node,
    lost = $bindable(),
    onfix,
    onagain,
    onrepair,
    onstage,
    onlost,
    onformer,
    onkeys,
    onadopt,
    onretire,
  }: Props = $props();
  /** Nodes on hosts that are not deployed, while no run of the plan goes on. */
  let adoptable = $derived(
    plan.bay !== '' &&
      (plan.changes
        ? (plan.changes.adds?.length ?? 0) > 0
        : !plan.runs.some((run) => run.state !== 'undone')) &&
      plan.nodes.some((one) => one.cells['datastore']?.origin !== 'unused'),
  );
</script>

<nav aria-label="Details of">
  {#each QUESTIONS as [id, label] (id)}<button
      aria-current={place.question === id ? 'true' : undefined}
      onclick={() => {
        lost = [];
        place.go({ node, question: id });
      }}>{label}</button
    >{/each}
</nav>
{#if place.question === 'sizing'}<Later
    load={parts.sizing}
    {plan}
    busy={rollout.busy}
    onedit={(e) => rollout.edit(e)}
  />
{:else if place.question === 'places'}<Later
    load={parts.places}
    {plan}
    {node}
    busy={rollout.busy}
    onedit={(e) => rollout.edit(e)}
    ontry={(e) => rollout.attempt(e)}
    onselect={(n) => place.go({ node: n, column: 'host' })}
  />
{:else if place.question === 'losses'}<Later
    load={parts.losses}
    {plan}
    {lost}
    onlose={(hosts) => {
      lost = hosts;
    }}
  />
{:else if place.question === 'time'}<Later load={parts.time} {plan} />
{:else if place.question === 'history'}<Later load={parts.history} {plan} />
{:else}
  {#if plan.changes}<Later
      load={parts.changes}
      {plan}
      changes={plan.changes}
      {node}
      busy={rollout.busy}
      onselect={(n: string, column: string) => place.go({ node: n, column })}
      {onagain}
      {onstage}
      {onlost}
      {onformer}
      {onkeys}
      {onretire}
      onrenew={(column: string) => void rollout.renew(column)}
    /><Later
      load={parts.drift}
      plan={plan.id}
      version={`${plan.runs[0]?.id ?? ''} ${plan.runs[0]?.state ?? ''}`}
      busy={rollout.busy}
      onselect={(n: string) => place.go({ node: n, column: 'host' })}
      {onrepair}
      ontaken={() => void rollout.load()}
    />{:else if plan.runs.some((one) => one.state === 'undoing')}<Later
      load={parts.retiring}
      plan={plan.id}
      ongone={() => void rollout.load()}
    />{/if}
  <PlanLedger {plan} onedit={(e) => rollout.edit(e)} {onfix} />
  {#if adoptable}<p class="adopt">
      <Button kind="link" disabled={rollout.busy} onclick={onadopt}>Adopt existing VMs …</Button>
      <span class="quiet">as nodes of this plan, without creating them</span>
    </p>{/if}{/if}

<style>
  nav {
    display: flex;
    gap: 2px 10px;
    flex-wrap: wrap;
    border-bottom: 1px solid var(--line);
    margin-bottom: 10px;
    font-size: var(--text-s);
  }
  button {
    border: 0;
    background: none;
    padding: 3px 0 5px;
    color: var(--soft);
    cursor: pointer;
    border-bottom: 2px solid transparent;
  }
  button:hover {
    color: var(--accent);
  }
  .adopt {
    font-size: var(--text-s);
  }
  [aria-current] {
    color: var(--ink);
    font-weight: 600;
    border-color: var(--ink);
  }
</style>
