<script lang="ts">
  /** Emptying a host for maintenance: where its nodes would go, plan by plan. The plans leave it
   * out; their next runs move the nodes. */
  import { get, send } from '../../lib/api/client';
  import type { EmptyView, OneHost } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';

  let { one }: { one: OneHost } = $props();
  let view = $state.raw<EmptyView | null>(null),
    busy = $state(false);
  let name = $derived(one.host.name);
  let place = $derived(`/estate/hosts/${name}/emptying` as const);
  let stay = $derived(view?.plans.filter((plan) => !plan.excluded && !plan.problem) ?? []);
  let gone = $derived(view?.plans.filter((plan) => plan.excluded) ?? []);
  let stuck = $derived(
    view?.plans.flatMap((plan) => plan.nodes.filter((node) => !node.to)).length ?? 0,
  );
  $effect(() => {
    void name;
    view = null;
  });

  async function asked(answer: () => Promise<EmptyView>) {
    busy = true;
    try {
      view = await answer();
    } catch (e: unknown) {
      notices.problem(e);
    }
    busy = false;
  }
  const look = () => asked(() => get(place));
  const leaveOut = () => {
    const versions = Object.fromEntries(stay.map((plan) => [plan.plan, plan.version]));
    return asked(() => send('POST', place, { versions }));
  };
  const useAgain = () => asked(() => send('DELETE', place));
</script>

<section>
  <h2>
    Empty this host {#if !view}<Button kind="link" disabled={busy} onclick={() => void look()}
        >{busy ? 'Calculating …' : 'See where its nodes would go'}</Button
      >{/if}
  </h2>
  {#if view}
    {#if view.plans.length}
      <table>
        <thead
          ><tr
            ><th scope="col">Node</th><th scope="col">Plan</th><th scope="col">Goes to</th><th
              scope="col">How</th
            ></tr
          ></thead
        >
        <tbody>
          {#each view.plans as plan (plan.plan)}
            {#if plan.problem}<tr class="stuck"
                ><td></td><td><a href={`/plans/${plan.plan}`}>{plan.plan}</a></td><td></td><td
                  >{plan.problem}</td
                ></tr
              >{/if}
            {#each plan.nodes as node (node.node)}<tr class:stuck={!node.to}
                ><th scope="row">{node.name}</th><td
                  ><a href={`/plans/${plan.plan}`}>{plan.plan}</a></td
                ><td class="mono">{node.to || 'nowhere'}</td><td
                  >{#if !node.to}{node.reason}{:else if !node.deployed}only its plan changes{:else if plan.excluded}by
                    the next run of {plan.plan}: shuts down, moves, starts{:else}shuts down, moves,
                    starts{/if}</td
                ></tr
              >{/each}
          {/each}
        </tbody>
      </table>
    {:else}<p class="quiet">No plan has a node on {name}.</p>{/if}
    {#if view.others.length}<p class="quiet">
        Not created here, they stay: {view.others.join(', ')}.
      </p>{/if}
    {#if stuck}<p>
        {count(stuck, 'node')} without another host: add room, or move them by hand in their plan.
      </p>{/if}
    <p class="acts">
      {#if stay.length}<Button kind="main" disabled={busy} onclick={() => void leaveOut()}
          >{stay.length === 1
            ? `Exclude ${name} from ${stay[0]?.plan}`
            : `Exclude ${name} from ${stay.length} plans`}</Button
        ><span class="quiet">Nothing moves until you deploy the changes of a plan.</span>{/if}
      {#if gone.length}<Button disabled={busy} onclick={() => void useAgain()}
          >Use {name} again</Button
        ><span class="quiet">Excluded from {gone.map((plan) => plan.plan).join(', ')}.</span>{/if}
    </p>
  {/if}
</section>

<style>
  section {
    margin-bottom: 18px;
  }
  h2 {
    font-size: var(--text-m);
    font-weight: 600;
    margin-bottom: 6px;
    display: flex;
    gap: 10px;
    align-items: baseline;
  }
  table {
    border-collapse: collapse;
    width: 100%;
    font-size: var(--text-s);
  }
  th,
  td {
    text-align: left;
    font-weight: 400;
    padding: 3px 14px 3px 0;
    border-bottom: 1px solid var(--line);
  }
  thead th {
    color: var(--muted);
  }
  th[scope='row'] {
    font-weight: 600;
  }
  .stuck td {
    color: var(--blocker);
  }
  p {
    font-size: var(--text-s);
    margin: 6px 0;
  }
  .acts {
    display: flex;
    gap: 10px;
    align-items: center;
    flex-wrap: wrap;
  }
</style>
