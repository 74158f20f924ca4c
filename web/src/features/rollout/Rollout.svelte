<script lang="ts">
  /** A plan, its run, or its acceptance: reads all three and keeps them in step with the server. */
  import { untrack } from 'svelte';
  import { router } from '../../lib/router.svelte';
  import { setTab, type TabMark } from '../../lib/tab.svelte';
  import Later from '../../lib/ui/Later.svelte';
  import { Place, type Shown } from './place';
  import { parts } from './parts';
  import { Rollout } from './rollout.svelte';
  import { shareDone } from './run';
  import { wallHeight } from '../wall/wall';

  let { id, reading }: { id: string; reading: Shown } = $props();
  // svelte-ignore state_referenced_locally
  const rollout = new Rollout(id);
  let now = $state(Date.now() / 1000);
  let tall = $state(innerHeight);
  let place = $derived(new Place(id, reading));
  let plan = $derived(rollout.plan);
  let run = $derived(rollout.run);
  let height = $derived.by(() => {
    const shown = reading === 'plan' ? plan : run;
    return shown ? wallHeight(shown.hosts, shown.nodes, tall) : 0;
  });
  const MARKS: Record<string, TabMark> = {
    running: 'working',
    held: 'working',
    proving: 'working',
    undoing: 'working',
    trouble: 'trouble',
    unproved: 'trouble',
    done: 'done',
  };
  $effect(() => {
    if (run && reading !== 'plan')
      setTab(
        `${run.words.tab} – ${plan?.title || id} · Nimble Stone`,
        MARKS[run.state] ?? 'plain',
        shareDone(run),
      );
  });
  // fetched beside the plan itself: neither waits for the other
  $effect(() => {
    void parts[reading]().catch(() => undefined);
  });
  $effect(() => {
    untrack(() => void rollout.load(router.query.get('run') ?? undefined));
    return () => rollout.dispose();
  });
  $effect(() => {
    if (run?.id) untrack(() => rollout.watch());
  });
  $effect(() => {
    const timer = setInterval(() => {
      now = rollout.now();
    }, 500);
    return () => clearInterval(timer);
  });
</script>

<svelte:window bind:innerHeight={tall} />
{#if plan && reading === 'plan'}<Later
    load={parts.plan}
    {rollout}
    {plan}
    {run}
    {place}
    wallHeight={height}
  />
{:else if run && reading === 'run'}<Later
    load={parts.run}
    {rollout}
    {run}
    {place}
    {now}
    wallHeight={height}
  />
{:else if run && reading === 'acceptance'}<Later
    load={parts.acceptance}
    {rollout}
    {run}
    {place}
    wallHeight={height}
  />
{:else if rollout.busy}<div class="empty quiet">
    {plan ? 'Loading run …' : 'Calculating plan …'}
  </div>
{:else if plan}<div class="empty">
    <h1>{reading === 'run' ? 'No run yet.' : 'No acceptance results yet.'}</h1>
    <p class="quiet">Start a run from the plan. Acceptance checks run at its end.</p>
    <a href={place.base('plan')}>Back to the plan</a>
  </div>
{:else}<div class="empty">
    <h1>This plan cannot be shown.</h1>
    <a href="/plans">All plans</a>
  </div>{/if}

<style>
  .empty {
    padding: 60px 20px;
    display: flex;
    flex-direction: column;
    gap: 8px;
  }
</style>
