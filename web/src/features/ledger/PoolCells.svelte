<script lang="ts">
  /** Pools and series of a plan, item by item: taken, excluded, this plan's, in conflict. */
  import type { PlanView } from '../../lib/api/types';
  import Section from './Section.svelte';

  let { plan }: { plan: PlanView } = $props();
  const TITLES: Record<string, string> = {
    ipv4: 'Addresses',
    ipv6: 'IPv6 addresses',
    mac: 'MAC addresses',
    number: 'Numbers',
  };
</script>

{#each plan.pools as pool (pool.name)}
  <Section
    title={TITLES[pool.kind ?? 'ipv4'] ?? 'Addresses'}
    aside={`${pool.kind === 'ipv4' ? 'pool' : 'series'} ${pool.name}`}
  >
    <div class="cells" aria-hidden="true">
      {#each pool.kind === 'ipv4' ? pool.cells : pool.cells.slice(0, 64) as mark, i (i)}<i
          data-mark={mark}
        ></i>{/each}
    </div>
    <p class="mono quiet">
      {pool.first} … {pool.last.split(pool.kind === 'ipv4' ? '.' : ':').at(-1)} · {pool.free} free
    </p>
  </Section>
{/each}

<style>
  .cells {
    display: grid;
    grid-template-columns: repeat(auto-fill, 11px);
    gap: 2px;
    margin-bottom: 5px;
  }
  .cells i {
    height: 11px;
    border: 1px solid var(--line);
    background: var(--surface);
  }
  [data-mark='t'] {
    background: var(--strong-line) !important;
  }
  [data-mark='x'] {
    background: linear-gradient(
      135deg,
      transparent 45%,
      var(--strong-line) 45% 58%,
      transparent 58%
    ) !important;
  }
  [data-mark='p'] {
    background: var(--role-1) !important;
    border-color: var(--role-1) !important;
  }
  [data-mark='!'] {
    background: var(--blocker) !important;
    border-color: var(--blocker) !important;
  }
</style>
