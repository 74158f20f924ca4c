<script lang="ts">
  /** What is to be known about a plan: findings, sequence, capacity, addresses, failure impact. */
  import type { Edit, Finding, PlanView } from '../../lib/api/types';
  import { count, inside, size, span } from '../../lib/format';
  import FindingList from './FindingList.svelte';
  import PoolCells from './PoolCells.svelte';
  import Section from './Section.svelte';
  import StoreBars from './StoreBars.svelte';

  interface Props {
    plan: PlanView;
    onedit: (edits: Edit[]) => void;
    onfix: (finding: Finding) => void;
  }
  let { plan, onedit, onfix }: Props = $props();
  const pct = (part: number, whole: number) => Math.min(100, (100 * part) / Math.max(1, whole));
</script>

<FindingList {plan} {onedit} {onfix} />

<Section title="Sequence" aside={`expected ${span(plan.forecast_s)}`}>
  <ol class="waves">
    {#each plan.waves as w (w.number)}
      <li>
        <span class="mono">{w.number}</span>
        <div>
          <p>{w.labels.map(inside).join(' · ')}</p>
          <div class="track" aria-hidden="true">
            <i
              style:left={`${pct(w.from_s, plan.forecast_s)}%`}
              style:width={`${pct(w.to_s - w.from_s, plan.forecast_s)}%`}
            ></i>
          </div>
        </div>
        <span class="mono quiet">{count(w.steps, 'step')}</span>
      </li>
    {/each}
  </ol>
</Section>

{#if plan.keeps}
  {@const k = plan.keeps}
  <Section title="Usable capacity" aside={k.label}>
    {#if k.reason}<p class="keeps short">{k.reason}</p>{:else}
      <div class="room" aria-hidden="true">
        <i class="usable" style:width={`${pct(k.usable_bytes, k.raw_bytes)}%`}></i><i
          class="waste"
          style:width={`${pct(k.wasted_bytes, k.raw_bytes)}%`}
        ></i>
      </div>
      <p class="keeps">
        <b class="mono">{size(k.usable_bytes)}</b> usable of
        <span class="mono">{size(k.raw_bytes)}</span>{k.wasted_bytes > 0.001 * k.raw_bytes
          ? `, ${size(k.wasted_bytes)} unusable`
          : ''}. {k.survives
          ? `${count(k.survives, 'host')} can fail without data loss; up to ${size(k.safe_bytes)} used, data can be rebuilt after losing the largest host.`
          : 'Not redundant: any host failure loses data.'}
      </p>{/if}
  </Section>
{/if}

{#if plan.stores.length}<StoreBars {plan} />{/if}
<PoolCells {plan} />

<Section title="Impact of one host failure">
  <ul class="losses">
    {#each plan.losses.slice(0, 8) as l (l.host)}<li>
        <b>{l.host}</b><span>{l.text}</span>
      </li>{/each}
  </ul>
</Section>

<style>
  ul,
  ol {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  .waves li {
    display: grid;
    grid-template-columns: 14px 1fr auto;
    gap: 8px;
    margin-bottom: 6px;
    font-size: var(--text-s);
  }
  .track {
    height: 5px;
    position: relative;
    background: var(--sunk);
    margin-top: 2px;
  }
  .track i {
    position: absolute;
    top: 0;
    bottom: 0;
    background: var(--strong-line);
  }
  .room {
    display: flex;
    height: 11px;
    border: 1px solid var(--line);
    background:
      repeating-linear-gradient(135deg, transparent 0 4px, var(--line) 4px 5px), var(--surface);
    margin-bottom: 5px;
  }
  .usable {
    background: var(--role-1);
  }
  .waste {
    background: var(--blocker);
    margin-left: auto;
  }
  .keeps {
    font-size: var(--text-s);
  }
  .keeps b {
    font-weight: 600;
  }
  .short {
    color: var(--blocker);
  }
  .losses li {
    display: grid;
    grid-template-columns: 94px 1fr;
    gap: 9px;
    font-size: var(--text-s);
    margin-bottom: 3px;
  }
  .losses b {
    font-weight: 600;
  }
</style>
