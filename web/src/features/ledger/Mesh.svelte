<script lang="ts">
  /** Who reaches whom: a row for each node that asks, a column for each that is asked. */
  import type { Verdict } from '../../lib/api/types';
  import { middle } from '../../lib/format';

  let { mesh }: { mesh: NonNullable<Verdict['mesh']> } = $props();
  const WIDE = 250,
    NAMED = 16;
  let named = $derived(mesh.nodes.length <= NAMED);
  let left = $derived(named ? 96 : 0);
  /** Where nothing is lost, a small one says as much. */
  let most = $derived(mesh.lost.some((one) => one.length) ? 22 : 12);
  let side = $derived(Math.max(4, Math.min(most, (WIDE - left) / mesh.nodes.length)));
  let lost = $derived(
    mesh.lost.flatMap((targets, from) => targets.map((to) => ({ from, to, key: `${from} ${to}` }))),
  );
  let size = $derived(side * mesh.nodes.length);
  let silent = $derived(new Set(mesh.silent));
  let words = $derived(
    lost.length
      ? `lost: ${lost.map((one) => `${mesh.nodes[one.from]} to ${mesh.nodes[one.to]}`).join(', ')}`
      : 'all nodes reach each other',
  );
</script>

<div class="scroll">
  <svg width={left + size + 1} height={size + 1} role="img" aria-label={words}>
    {#each mesh.nodes as name, row (name)}
      {#if named}<text x={left - 8} y={row * side + side / 2 + 4}>{middle(name, 13)}</text>{/if}
      {#if silent.has(row)}
        <rect class="silent" x={left} y={row * side} width={size} height={side}>
          <title>{name} could not be asked</title>
        </rect>
      {/if}
      <rect class="self" x={left + row * side} y={row * side} width={side} height={side} />
    {/each}
    {#each { length: mesh.nodes.length + 1 } as _, n (n)}
      <path
        d={`M${left + n * side + 0.5} 0.5V${size + 0.5}M${left + 0.5} ${n * side + 0.5}H${left + size + 0.5}`}
      />
    {/each}
    {#each lost as one (one.key)}
      <g class="lost" transform={`translate(${left + one.to * side} ${one.from * side})`}>
        <rect width={side} height={side} />
        <path d={`M2 2L${side - 2} ${side - 2}M${side - 2} 2L2 ${side - 2}`} />
        <title>{mesh.nodes[one.from]} does not reach {mesh.nodes[one.to]}</title>
      </g>
    {/each}
  </svg>
</div>
{#if silent.size}
  <p class="quiet">
    Shaded: could not be asked: {mesh.nodes.filter((_, n) => silent.has(n)).join(', ')}.
  </p>
{/if}

<style>
  .scroll {
    overflow-x: auto;
  }
  path {
    stroke: var(--line);
    fill: none;
  }
  .self {
    fill: var(--line);
  }
  .silent {
    fill: var(--caution-wash);
  }
  .lost rect {
    fill: var(--paper);
    stroke: var(--blocker);
  }
  .lost path {
    stroke: var(--blocker);
    stroke-width: 2;
  }
  text {
    text-anchor: end;
    font-size: 11px;
    fill: var(--muted);
  }
</style>
