<script lang="ts">
  /** The values of one node, in the order they came. */
  import { extent, round, type Chart } from './series';

  let { chart }: { chart: Chart } = $props();
  const WIDE = 250,
    HIGH = 84;
  let end = $derived(extent([chart]));
  let step = $derived(WIDE / chart.values.length);
  const up = (value: number) => HIGH - Math.max(1, (value / end) * (HIGH - 6));
  let words = $derived(
    `${chart.values.length} values, median ${round(chart.median)} ${chart.unit ?? ''}, worst ${round(Math.max(...chart.values))}`,
  );
</script>

<svg width={WIDE} height={HIGH + 1} role="img" aria-label={words}>
  {#each chart.values as value, n (n)}
    <rect
      x={n * step + 0.5}
      y={up(value)}
      width={Math.max(1, step - 1.5)}
      height={HIGH - up(value)}
      class:bad={chart.worst != null && value > chart.worst}
    >
      <title>{round(value)} {chart.unit ?? ''}</title>
    </rect>
  {/each}
  <path class="base" d={`M0 ${HIGH + 0.5}H${WIDE}`} />
  <path class="median" d={`M0 ${up(chart.median)}H${WIDE}`} />
  {#if chart.most != null && chart.most <= end}<path
      class="limit"
      d={`M0 ${up(chart.most)}H${WIDE}`}
    />{/if}
  {#if chart.worst != null && chart.worst <= end}<path
      class="worst"
      d={`M0 ${up(chart.worst)}H${WIDE}`}
    />{/if}
</svg>

<style>
  svg {
    display: block;
    margin-top: 8px;
  }
  rect {
    fill: var(--rock);
  }
  rect.bad {
    fill: var(--blocker);
  }
  path {
    fill: none;
  }
  .base {
    stroke: var(--strong-line);
  }
  .median {
    stroke: var(--ink);
    stroke-width: 1.5;
  }
  .limit {
    stroke: var(--caution);
    stroke-dasharray: 1.5 2;
  }
  .worst {
    stroke: var(--blocker);
    stroke-dasharray: 4 2;
  }
</style>
