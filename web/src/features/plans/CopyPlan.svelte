<script lang="ts">
  import { tick } from 'svelte';
  import { get, send } from '../../lib/api/client';
  import type { CarriedOver, EstateView, PlanLine } from '../../lib/api/types';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';

  interface Props {
    plan: PlanLine;
    estate: EstateView;
    onclose: () => void;
  }
  let { plan, estate, onclose }: Props = $props();
  let bays = $derived(estate.bays.filter((b) => b !== plan.bay));
  let bay = $state(''),
    name = $state(''),
    done = $state.raw<CarriedOver | null>(null),
    map = $state<Record<string, string>>({});
  $effect(() => {
    bay ||= bays[0] ?? '';
  });
  const carried = (b: string) =>
    new Set(estate.hosts.filter((h) => h.bay === b).flatMap((h) => h.networks));
  let gone = $derived([...carried(plan.bay)].filter((n) => !carried(bay).has(n)));
  let here = $derived([...carried(bay)]);
  /** What the plan says anywhere: only that needs another name there. */
  let said = $state.raw<Set<string> | null>(null);
  let asked: Promise<void> = Promise.resolve();
  $effect(() => {
    asked = get(`/plans/${plan.id}`)
      .then((found) => {
        said = new Set(
          found.nodes.flatMap((n) =>
            Object.values(n.cells)
              .filter((c) => ['node', 'group', 'plan', 'shared'].includes(c.origin))
              .map((c) => c.value),
          ),
        );
      })
      .catch((e: unknown) => notices.problem(e));
  });
  let lying = $derived([...estate.pools, ...estate.series.filter((s) => s.network)]);
  let old = $derived(
    [...gone, ...lying.filter((p) => gone.includes(p.network ?? '')).map((p) => p.name)].filter(
      (one) => said?.has(one),
    ),
  );
  const offers = (one: string) => {
    const series = estate.series.find((s) => s.name === one),
      pools = series ? estate.series.filter((s) => s.kind === series.kind) : estate.pools;
    const there = pools.filter((p) => here.includes(p.network ?? '')).map((p) => p.name);
    return gone.includes(one) ? [...new Set([...here, ...there])] : there; // a network and a pool may share a name
  };
  /** What there is of the same kind in the new bay, unless somebody chooses otherwise. */
  $effect(() => {
    for (const one of old) map[one] ??= offers(one)[0] ?? '';
  });
  async function carry() {
    // whoever types quickly waits until it is known what has to become another
    await asked;
    await tick();
    try {
      done = await send('POST', `/plans/${plan.id}/copy`, {
        name,
        bay,
        mapping: Object.fromEntries(Object.entries(map).filter(([k, v]) => v && old.includes(k))),
      });
      if (!done.left.length) {
        onclose();
        router.go(`/plans/${done.name}`);
      }
    } catch (error) {
      notices.problem(error);
    }
  }
</script>

<Dialog title={`Copy ${plan.title} to another bay`} {onclose}>
  {#if done}
    <p><b>{done.name} created.</b> These values still refer to the old bay:</p>
    <ul>
      {#each done.left as l (l.path)}<li><span class="mono">{l.path}</span> {l.value}</li>{/each}
    </ul>
    <div class="acts">
      <Button
        kind="main"
        onclick={() => {
          onclose();
          router.go(`/plans/${done?.name}`);
        }}>Open plan</Button
      >
    </div>
  {:else}
    <form
      onsubmit={(e) => {
        e.preventDefault();
        void carry();
      }}
    >
      <label
        >To <select bind:value={bay}
          >{#each bays as b (b)}<option>{b}</option>{/each}</select
        ></label
      >
      <label
        >As <input
          bind:value={name}
          required
          pattern="[a-z0-9][a-z0-9\-]*"
          maxlength="40"
          placeholder={`${plan.id}-two`}
        /></label
      >
      {#if old.length}<p class="quiet">Values that exist only in {plan.bay} become:</p>
        {#each old as one (one)}<label
            ><span class="mono">{one}</span> →
            <select
              value={map[one] ?? ''}
              onchange={(e) => {
                map[one] = e.currentTarget.value;
              }}
              ><option value="">leave unchanged</option>{#each offers(one) as o (o)}<option
                  >{o}</option
                >{/each}</select
            ></label
          >{/each}{/if}
      <p class="quiet">
        Per-node hosts, datastores and addresses are not copied. Comments and order are kept.
      </p>
      <div class="acts">
        <Button kind="main" type="submit" disabled={!name || !bay}>Copy plan</Button><Button
          onclick={onclose}>Cancel</Button
        >
      </div>
    </form>
  {/if}
</Dialog>

<style>
  label {
    display: grid;
    grid-template-columns: 150px 20px 1fr;
    align-items: center;
    gap: 4px;
    margin-bottom: 8px;
  }
  form > label:not(:has(.mono)) {
    grid-template-columns: 174px 1fr;
  }

  .acts {
    display: flex;
    gap: 10px;
    margin-top: 12px;
  }
  ul {
    padding-left: 18px;
  }
</style>
