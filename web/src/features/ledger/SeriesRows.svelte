<script lang="ts">
  /** One row for each node that was asked again and again: its values on a scale that all rows share, the slowest first. */
  import type { Verdict } from '../../lib/api/types';
  import { middle } from '../../lib/format';
  import { extent, overs, round } from './series';

  interface Props {
    /** All of one check; each has a chart. */
    verdicts: Verdict[];
    nameOf: (verdict: Verdict) => string;
    onproof: (key: string) => void;
  }
  let { verdicts, nameOf, onproof }: Props = $props();
  const WIDE = 152,
    SHOWN = 12;
  let sorted = $derived(
    verdicts
      .flatMap((v) => (v.chart ? [{ v, chart: v.chart }] : []))
      .sort((a, b) => b.chart.median - a.chart.median),
  );
  let rows = $derived(sorted.slice(0, SHOWN));
  let end = $derived(extent(sorted.map((row) => row.chart)));
  let first = $derived(sorted[0]?.chart);
  const at = (value: number) => Math.round((value / end) * (WIDE - 2)) + 1;
</script>

<table>
  <tbody>
    {#each rows as { v, chart } (v.node)}
      <tr>
        <th scope="row"
          ><button onclick={() => onproof(`${v.node}/${v.proof}`)}>{middle(nameOf(v), 13)}</button
          ></th
        >
        <td>
          <svg width={WIDE} height="18" aria-hidden="true">
            <path class="base" d={`M0 14.5H${WIDE}`} />
            {#if chart.most != null}<path class="limit" d={`M${at(chart.most)} 1V17`} />{/if}
            {#if chart.worst != null}<path class="worst" d={`M${at(chart.worst)} 1V17`} />{/if}
            {#each chart.values as value, n (n)}<path
                class="value"
                d={`M${at(value)} 7V14`}
              />{/each}
            <path class="median" d={`M${at(chart.median)} 3V16`} />
          </svg>
        </td>
        <td class="mono number" class:bad={overs(chart)}
          >{overs(chart) ? '▲ ' : ''}{round(chart.median)}</td
        >
      </tr>
    {/each}
  </tbody>
</table>
<p class="quiet">
  0 to {round(end)}
  {first?.unit ?? ''}. Thick: median; thin: each answer.
  {#if first?.most != null}Median at most {first.most}{first.most <= end ? ' (dotted)' : ''}.{/if}
  {#if first?.worst != null}Worst at most {first.worst}{first.worst <= end ? ' (dashed)' : ''}.{/if}
  {#if sorted.length > SHOWN}The {SHOWN} slowest of {sorted.length} nodes.{/if}
</p>

<style>
  table {
    width: 100%;
    border-collapse: collapse;
  }
  th {
    text-align: left;
    font-weight: normal;
    white-space: nowrap;
  }
  td,
  th {
    padding: 0 6px 0 0;
  }
  .number {
    text-align: right;
    padding-right: 0;
    white-space: nowrap;
    font-size: var(--text-xs);
  }
  .bad {
    color: var(--blocker);
  }
  button {
    border: 0;
    background: none;
    padding: 0;
    min-height: 24px;
    font-size: var(--text-s);
    cursor: pointer;
  }
  button:hover {
    color: var(--accent);
  }
  svg {
    display: block;
  }
  path {
    fill: none;
  }
  .base {
    stroke: var(--line);
  }
  .value {
    stroke: var(--muted);
    opacity: 0.55;
  }
  .median {
    stroke: var(--ink);
    stroke-width: 2.5;
  }
  .limit {
    stroke: var(--caution);
    stroke-dasharray: 1.5 2;
  }
  .worst {
    stroke: var(--blocker);
    stroke-dasharray: 4 2;
  }
  p {
    margin: 4px 0 0;
  }
</style>
