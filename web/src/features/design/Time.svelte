<script lang="ts">
  import { get } from '../../lib/api/client';
  import type { ChancesView, DifferenceAnswer, PlanView } from '../../lib/api/types';
  import { count, span } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Section from '../ledger/Section.svelte';

  interface Props {
    plan: PlanView;
  }
  let { plan }: Props = $props();
  let chances = $state.raw<ChancesView | null>(null),
    before = $state.raw<DifferenceAnswer | null>(null),
    built = $state.raw<DifferenceAnswer | null>(null);
  $effect(() => {
    void plan.version;
    get(`/plans/${plan.id}/chances`)
      .then((found) => {
        chances = found;
      })
      .catch((e: unknown) => notices.problem(e));
    if (plan.version > 1)
      get(`/plans/${plan.id}/difference?version=${plan.version - 1}`)
        .then((found) => {
          before = found;
        })
        .catch(() => {
          before = null;
        });
    else before = null;
    if (plan.runs.some((r) => r.state !== 'undone'))
      get(`/plans/${plan.id}/difference`)
        .then((found) => {
          built = found;
        })
        .catch(() => {
          built = null;
        });
    else built = null;
  });
  let names = $derived(new Map(plan.nodes.map((n) => [n.id, n.name])));
  let way = $derived(plan.way);
  /** How long each step of the way waits for its turn when all before it is done. */
  let turns = $derived(way.map((s, i) => s.start_s - (way[i - 1]?.end_s ?? 0)));
  let change = $derived(before ? before.after_s - before.before_s : 0);
  const KIND: Record<string, string> = {
    carry: 'copying images',
    clone: 'disks',
    medium: 'config ISOs',
    define: 'guests',
    start: 'starting',
    boot: 'booting',
    services: 'services',
    call: 'forming',
  };
</script>

<Section title="Duration" aside={chances ? '' : 'calculating …'}>
  {#if chances}
    <div class="big">
      <div><b class="mono">{span(chances.expected_seconds)}</b><span>expected</span></div>
      <div><b class="mono">{span(chances.p90_seconds)}</b><span>90% of simulated runs</span></div>
    </div>
    <div class="track" aria-hidden="true">
      <i
        class="half"
        style:width={`${(100 * chances.expected_seconds) / Math.max(1, chances.p90_seconds * 1.1)}%`}
      ></i><i class="nine" style:left={`${100 / 1.1}%`}></i>
    </div>
    <p class="quiet">
      {Object.keys(chances.measured).length
        ? `Based on earlier runs here: ${Object.entries(chances.measured)
            .map(
              ([k, f]) =>
                `${KIND[k] ?? k} ${f > 1 ? `${f.toFixed(1)} × as long` : `${Math.round(f * 100)} % of`}`,
            )
            .slice(0, 4)
            .join(', ')} as the kit says.`
        : 'Based on kit defaults; no earlier runs on this estate.'}
    </p>
  {/if}
</Section>

{#if before?.differences.length}
  <Section
    title="Your last change"
    aside={Math.abs(change) >= 1
      ? `${change > 0 ? '+' : '−'}${span(Math.abs(change))}`
      : 'no change'}
  >
    <ul>
      {#each before.differences.slice(0, 8) as d (d.text)}<li>{d.text}</li>{/each}
    </ul>
    {#if before.differences.length > 8}<p class="quiet">
        and {before.differences.length - 8} more
      </p>{/if}
  </Section>
{/if}

{#if built}
  <Section
    title="Compared with the deployed run"
    aside={built.differences.length ? count(built.differences.length, 'difference') : 'the same'}
  >
    {#if built.differences.length}<ul>
        {#each built.differences.slice(0, 10) as d (d.text)}<li>{d.text}</li>{/each}
      </ul>{:else}<p class="quiet">Deployed as planned.</p>{/if}
  </Section>
{/if}

<Section title="Critical path" aside={count(way.length, 'step')}>
  <ol>
    {#each way as s, i (s.key)}{#if (turns[i] ?? 0) >= 0.5}<li
          class="quiet"
          title="Ready to start, but the limit of steps per host or in total is reached"
        >
          <span>waiting for a free slot</span><span class="mono">{span(turns[i] ?? 0)}</span>
        </li>{/if}
      <li>
        <span>{s.label}{s.node ? ` · ${names.get(s.node) ?? s.node}` : ''}</span><span
          class="mono quiet">{span(s.expected_s)}</span
        >
      </li>{/each}
  </ol>
</Section>

<style>
  .big {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 10px;
  }
  .big div {
    display: flex;
    flex-direction: column;
  }
  .big b {
    font-size: 21px;
    font-weight: 600;
  }
  .big span {
    color: var(--soft);
    font-size: var(--text-s);
  }
  .track {
    position: relative;
    height: 9px;
    border: 1px solid var(--line);
    background: var(--surface);
    margin: 7px 0;
  }
  .track i {
    position: absolute;
    top: 0;
    bottom: 0;
  }
  .half {
    left: 0;
    background: var(--role-1);
  }
  .nine {
    width: 2px;
    background: var(--ink);
    top: -3px !important;
    bottom: -3px !important;
  }
  .mono {
    white-space: nowrap;
  }
  ul,
  ol {
    list-style: none;
    margin: 0;
    padding: 0;
    font-size: var(--text-s);
  }
  li {
    padding: 3px 0;
    border-bottom: 1px solid var(--line);
  }
  ol li {
    display: flex;
    justify-content: space-between;
    gap: 10px;
  }
  p {
    font-size: var(--text-s);
    margin: 4px 0 0;
  }
</style>
