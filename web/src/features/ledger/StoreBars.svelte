<script lang="ts">
  /** Datastores that get a disk: what is used now, what comes, and how full they get at worst. */
  import type { PlanView } from '../../lib/api/types';
  import { count, middle, size } from '../../lib/format';
  import Section from './Section.svelte';

  let { plan }: { plan: PlanView } = $props();
  const pct = (part: number, whole: number) => Math.min(100, (100 * part) / Math.max(1, whole));
</script>

<Section title="Datastores" aside="now / after / when full">
  <ul class="bars">
    {#each plan.stores.slice(0, 10) as s (s.host + s.name)}
      <li
        title={`${s.name}: ${size(s.used_bytes)} used of ${size(s.capacity_bytes)}; ${count(s.nodes, 'node')} of this plan: ${size(s.thin_bytes)} thin, ${size(s.full_bytes)} when full`}
      >
        <span class="label">{middle(s.name, 15)}</span>
        <span class="bar"
          ><i class="used" style:width={`${pct(s.used_bytes, s.capacity_bytes)}%`}></i><i
            class="thin"
            style:left={`${pct(s.used_bytes, s.capacity_bytes)}%`}
            style:width={`max(2px, ${pct(s.thin_bytes, s.capacity_bytes)}%)`}
          ></i>
          <i
            class="worst"
            class:over={s.used_bytes + s.full_bytes > 0.9 * s.capacity_bytes}
            style:left={`${pct(s.used_bytes + s.full_bytes, s.capacity_bytes)}%`}
          ></i></span
        >
        <span class="mono">{Math.round(pct(s.used_bytes + s.full_bytes, s.capacity_bytes))} %</span>
      </li>
    {/each}
  </ul>
</Section>

<style>
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  .bars li {
    display: grid;
    grid-template-columns: 94px 1fr 38px;
    gap: 9px;
    align-items: center;
    margin-bottom: 4px;
    font-size: var(--text-s);
  }
  .label {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .bars .mono {
    text-align: right;
  }
  .bar {
    position: relative;
    height: 11px;
    border: 1px solid var(--line);
    background: var(--surface);
  }
  .bar i {
    position: absolute;
    top: 0;
    bottom: 0;
    left: 0;
  }
  .used {
    background: var(--strong-line);
    opacity: 0.7;
  }
  .thin {
    background: var(--role-1);
  }
  .worst {
    width: 2px;
    background: var(--ink);
    top: -3px !important;
    bottom: -3px !important;
  }
  .worst.over {
    background: var(--blocker);
    width: 3px;
  }
</style>
