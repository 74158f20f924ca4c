<script lang="ts">
  /** A host (or a datastore) on the wall: what runs there already, what others plan, and below it its name. */
  import type { Snippet } from 'svelte';
  import { count, middle, size } from '../../lib/format';
  import type { Column } from './wall';

  interface Props {
    column: Column;
    /** What is said below its name. */
    foot: string;
    alarm: boolean;
    dim: boolean;
    short: boolean;
    lost: boolean;
    over: boolean;
    onchoose: () => void;
    children: Snippet;
  }
  let { column: c, foot, alarm, dim, short, lost, over, onchoose, children }: Props = $props();
  const chars = (w: number) => Math.max(2, Math.floor((w - 44) / 6.6)) + 2;
  let reach = $derived(c.dense ? 0 : 3);
</script>

<g class="host" class:lost class:dim class:short class:over class:bad={c.host.trouble}>
  <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
  <rect x={c.x} y={c.top} width={c.w} height={c.base - c.top} class="shell" onclick={onchoose}>
    {#if !c.dense}<title
        >{c.host.name}: {#if c.host.bare}bare machine, {size(c.host.memory_bytes)}, {count(
            c.host.drives?.length ?? 0,
            'drive',
          )}{:else}{size(c.free)} free below the limit of {size(c.host.limit_bytes)}; {size(
            c.host.memory_bytes,
          )} installed{/if}{c.host.trouble ? ` · ${c.host.trouble}` : ''}</title
      >{/if}</rect
  >
  {#if !c.dense && !c.host.bare}<line
      x1={c.x - 3}
      x2={c.x + c.w + 3}
      y1={c.limit}
      y2={c.limit}
      class="limit"
    />{/if}
  {#each c.bedrock as b (b.id)}
    <rect
      x={b.x}
      y={b.y}
      width={b.w}
      height={Math.max(0.6, b.h - (c.dense ? 0 : 1))}
      fill="url(#rock)"
      >{#if !c.dense}<title>{b.label} {size(b.memory)}, existing VM</title>{/if}</rect
    >
    {#if !c.dense && b.h >= 14}<text x={b.x + 7} y={b.y + b.h / 2 + 3.5} class="small"
        >{middle(b.label, chars(b.w))}</text
      >{/if}
  {/each}
  {#each c.ghosts as g (g.id)}<g class="claimed"
      ><rect x={g.x} y={g.y} width={g.w} height={Math.max(1, g.h - 1)}
        ><title>{g.label}, {size(g.memory)}: {g.words}</title></rect
      >{#if !c.dense && g.h >= 14}<text x={g.x + 7} y={g.y + g.h / 2 + 3.5} class="small plain"
          >{middle(g.label, chars(g.w))}</text
        >{/if}</g
    >{/each}
  {#each c.drives as d (d.serial)}<rect
      x={d.x}
      y={d.y}
      width={d.w}
      height={d.h}
      class="drive {d.use}"><title>{d.title}</title></rect
    >{#if d.use === 'system'}<path
        d={`M${d.x + 3} ${d.y + d.h / 2}H${d.x + d.w - 3}`}
        class="notch"
      />{/if}{/each}
  {@render children()}
  <line x1={c.x - reach} x2={c.x + c.w + reach} y1={c.base} y2={c.base} class="ground" />
  {#if c.named === 'across'}
    <text x={c.x} y={c.base + 16} class="name">{middle(c.host.name, Math.floor(c.w / 7))}</text>
    <text x={c.x} y={c.base + 31} class="foot" class:alarm
      >{middle(foot, Math.floor(c.w / 6.6))}</text
    >
  {:else if c.named === 'upright'}
    <text
      transform={`translate(${c.x + c.w / 2 + 4} ${c.base + 6}) rotate(90)`}
      class="name upright"
      class:alarm>{middle(c.host.name, 10)}</text
    >
  {/if}
</g>

<style>
  text {
    font: 12px var(--sans);
    fill: var(--ink);
    pointer-events: none;
  }
  .shell {
    fill: var(--surface);
    stroke: var(--line);
  }
  .over .shell {
    stroke: var(--accent);
    fill: var(--accent-wash);
  }
  .bad .shell {
    stroke: var(--blocker);
    stroke-dasharray: 4 3;
  }
  .lost {
    opacity: 0.38;
  }
  .lost .shell {
    stroke: var(--blocker);
    stroke-dasharray: 6 4;
    stroke-width: 1.5;
  }
  .claimed rect {
    fill: none;
    stroke: var(--strong-line);
    stroke-dasharray: 3 3;
  }
  .claimed text.plain {
    stroke: none;
    fill: var(--soft);
  }
  .drive {
    fill: var(--paper);
    stroke: var(--strong-line);
  }
  .drive.free {
    stroke-dasharray: 2 2;
  }
  .drive.held {
    fill: url(#rock);
  }
  .drive.data {
    fill: var(--accent-wash);
    stroke: var(--accent);
  }
  .drive.system {
    fill: var(--ink);
    stroke: var(--ink);
  }
  .notch {
    stroke: var(--paper);
    stroke-width: 1.5;
    pointer-events: none;
  }
  .limit {
    stroke: var(--strong-line);
    stroke-dasharray: 2 3;
  }
  .short .limit {
    stroke: var(--blocker);
    stroke-dasharray: none;
    stroke-width: 2;
  }
  .short .shell {
    stroke: var(--blocker);
    stroke-dasharray: 4 3;
  }
  .ground {
    stroke: var(--ink);
    stroke-width: 1.6;
  }
  .small {
    font-size: 11px;
    fill: var(--rock-ink);
    paint-order: stroke;
    stroke: var(--rock);
    stroke-width: 3px;
  }
  .name {
    font-weight: 600;
    font-size: 13px;
  }
  .foot {
    font: 11px var(--mono);
    fill: var(--muted);
  }
  .alarm {
    fill: var(--blocker);
  }
  .dim {
    opacity: 0.22;
  }
  .upright {
    font-size: 11px;
    font-weight: 400;
  }
</style>
