<script lang="ts">
  /** All hosts and machines by site and bay, under one of several readings. The table below says the same in words. */
  import type { EstateView, FitnessView } from '../../lib/api/types';
  import { middle } from '../../lib/format';
  import Lens from '../wall/Lens.svelte';
  import { bars, fitting, layout, type Column, type Reading } from './readings';

  interface Props {
    estate: Pick<EstateView, 'hosts' | 'machines' | 'now'>;
    fitness: FitnessView | null;
    reading: Reading;
    height: number;
    chosen?: string;
    onchoose: (kind: 'host' | 'machine', name: string) => void;
  }
  let { estate, fitness, reading, height, chosen = '', onchoose }: Props = $props();
  let width = $state(900);
  let picture = $derived(layout(bars(estate, fitness, reading), width, height));
  let under = $state.raw<{ column: Column; x: number } | null>(null);
  /** Columns too narrow for their name are named under the pointer. */
  function look(event: PointerEvent) {
    const box = (event.currentTarget as Element).getBoundingClientRect();
    const [x, y] = [event.clientX - box.left, event.clientY - box.top];
    const column = picture.columns.find(
      (c) => x >= c.x - 1 && x <= c.x + c.w + 1 && y >= c.top - 8 && y <= c.base + 4,
    );
    under = picture.dense && column ? { column, x } : null;
  }
  const pick = (event: Event) => {
    const at = (event.target as Element).closest<SVGGElement>('[data-name]');
    if (at?.dataset.name && at.dataset.kind !== 'shared')
      onchoose(at.dataset.kind as 'host', at.dataset.name);
  };
</script>

<!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_noninteractive_element_interactions -->
<div class="wall" bind:clientWidth={width}>
  <svg
    {width}
    {height}
    role="img"
    aria-label={`The estate by ${reading}; the table below says the same`}
    onclick={pick}
    onpointermove={look}
    onpointerleave={() => {
      under = null;
    }}
  >
    <defs>
      <pattern
        id="rock"
        width="6"
        height="6"
        patternUnits="userSpaceOnUse"
        patternTransform="rotate(45)"
        ><rect width="6" height="6" fill="var(--rock)" /><path
          d="M0 0V6"
          stroke="var(--hatch)"
          stroke-width="1.6"
        /></pattern
      >
      <pattern id="old" width="5" height="5" patternUnits="userSpaceOnUse"
        ><rect width="5" height="5" fill="var(--sunk)" /><path
          d="M0 5L5 0"
          stroke="var(--caution)"
          stroke-width="1.2"
        /></pattern
      >
    </defs>
    {#each picture.titles as t (`${t.text} ${t.y}`)}<text class="group" x={t.x} y={t.y}
        >{t.text}</text
      >{/each}
    {#each picture.columns as c (c.bar.key)}
      <g
        data-name={c.bar.name}
        data-kind={c.bar.kind}
        class:chosen={chosen === c.bar.name}
        class:machine={c.bar.kind === 'machine'}
        class:stale={c.bar.stale}
      >
        <title>{`${c.bar.name}: ${c.bar.words}`}</title>
        <rect
          class="hit"
          x={c.x}
          y={c.top - 8}
          width={c.w}
          height={c.base - c.top + 8 + (picture.dense ? 0 : 30)}
        />
        <rect
          class="whole"
          x={c.x + 0.5}
          y={c.top}
          width={c.w - 1}
          height={Math.max(1, c.base - c.top)}
          class:shared={c.bar.kind === 'shared'}
        />
        {#each c.parts as p, i (i)}<rect
            class={p.part.tone}
            x={c.x + 1}
            y={p.y}
            width={Math.max(1, c.w - 2)}
            height={Math.max(1, p.h - (p.h > 3 ? 1 : 0))}
          />{/each}
        {#if c.limit}<path class="limit" d={`M${c.x - 1} ${c.limit}h${c.w + 2}`} />{/if}
        {#if c.bar.trouble}<path
            class="crack"
            d={`M${c.x + c.w * 0.62} ${c.top}L${c.x + c.w * 0.4} ${c.top + (c.base - c.top) * 0.4}L${c.x + c.w * 0.58} ${c.top + (c.base - c.top) * 0.55}L${c.x + c.w * 0.34} ${c.base}`}
          />{/if}
        {#if !picture.dense}<text
            class="name"
            class:small={c.w < 64}
            x={c.x + c.w / 2}
            y={c.base + 15}>{middle(c.bar.name, Math.floor(c.w / (c.w < 64 ? 5.4 : 6.6)))}</text
          ><text class="below" class:bad={c.bar.trouble} x={c.x + c.w / 2} y={c.base + 29}
            >{fitting(
              c.bar.trouble ? 'unreachable' : c.bar.below,
              c.w + 6,
              c.w < 64 ? 5.7 : 6.2,
            )}</text
          >{/if}
      </g>
    {/each}
  </svg>
  {#if under}
    {@const { bar } = under.column}
    <Lens name={bar.name} place={bar.group} x={under.x} {width}><p>{bar.words}</p></Lens>
  {/if}
</div>

<style>
  .wall {
    width: 100%;
    position: relative;
  }
  svg {
    display: block;
  }
  g {
    cursor: pointer;
  }
  .group {
    font-size: 12px;
    fill: var(--muted);
  }
  .name {
    font-size: 12.5px;
    font-weight: 600;
    text-anchor: middle;
    fill: var(--ink);
  }
  .name.small {
    font-size: 11px;
  }
  .name.small + .below {
    font-size: 9.5px;
  }
  .below {
    font: 10.5px var(--mono);
    text-anchor: middle;
    fill: var(--muted);
  }
  .below.bad {
    fill: var(--blocker);
  }
  .hit {
    fill: transparent;
  }
  .whole {
    fill: var(--surface);
    stroke: var(--strong-line);
  }
  .whole.shared {
    stroke-dasharray: 3 2;
  }
  .machine .whole {
    fill: none;
    stroke-dasharray: 1 2;
    stroke: var(--soft);
  }
  .rock {
    fill: url(#rock);
  }
  .ours {
    fill: var(--role-1);
  }
  .fresh {
    fill: var(--rock);
  }
  .old {
    fill: url(#old);
  }
  .drive {
    fill: none;
    stroke: var(--strong-line);
  }
  .blocker {
    fill: var(--blocker);
  }
  .caution {
    fill: none;
    stroke: var(--caution);
    stroke-width: 2;
  }
  .note {
    fill: var(--rock);
  }
  .limit {
    stroke: var(--ink);
    stroke-width: 1;
    stroke-dasharray: 2 3;
    fill: none;
  }
  .crack {
    stroke: var(--blocker);
    stroke-width: 1.6;
    fill: none;
  }
  .stale .rock,
  .stale .whole {
    opacity: 0.55;
  }
  g:hover .whole {
    stroke: var(--accent);
  }
  .chosen .whole {
    stroke: var(--accent);
    stroke-width: 2;
  }
  .chosen .name {
    fill: var(--accent);
  }
</style>
