<script lang="ts">
  /** Hosts side by side with what runs on them and what is planned: heights are what a reading measures. */
  import type { HostView, NodeView, PlanView } from '../../lib/api/types';
  import { count, gib, listed, size } from '../../lib/format';
  import type { Mark } from '../../lib/ui/marks';
  import { Drag } from './drag.svelte';
  import Lens from './Lens.svelte';
  import {
    footOf,
    isOdd,
    layout,
    measured,
    networksOf,
    networkWords,
    nodeOf,
    type Column,
    type Claimed,
    type Part,
    type Place,
    type Reading,
  } from './wall';
  import WallColumn from './WallColumn.svelte';
  import WallStone, { type StoneState } from './WallStone.svelte';

  const placeOf = (host: Place) =>
    `${host.site} · ${host.bay}${host.rack ? ` · rack ${host.rack}` : ''}`;

  interface Props {
    hosts: HostView[];
    nodes: NodeView[];
    states?: Map<string, StoneState>;
    selected?: string;
    filter?: string;
    onselect?: (node: string, column: string) => void;
    onhost?: (host: string) => void;
    onmove?: (part: Part, to: Place) => void;
    onover?: (part: Part, to: Place | null) => void;
    lines?: PlanView['stores'];
    losses?: PlanView['losses'];
    height?: number;
    trouble?: Set<string>;
    lost?: string[];
    claims?: Claimed[];
    reading?: Reading;
  }
  let {
    hosts,
    nodes,
    states,
    selected = '',
    filter = '',
    onselect,
    onhost,
    onmove,
    onover,
    height = 262,
    trouble,
    lost = [],
    claims = [],
    lines = [],
    losses = [],
    reading = 'memory',
  }: Props = $props();
  const PLAIN: StoneState = { mark: 'planned' as Mark, share: 0 };
  let width = $state(900);
  let svg: SVGSVGElement | undefined = $state();
  let pointer = $state.raw<{ x: number; column: Column } | null>(null);
  let seen = $derived(measured(hosts, nodes, reading, lines));
  let picture = $derived(
    layout(seen.hosts, seen.nodes, width, height, reading === 'memory' ? claims : []),
  );
  let wanted = $derived(reading === 'networks' ? networksOf(nodes) : []);
  let bytes = $derived(reading === 'stores' || reading === 'full');
  const drag = new Drag({
    picture: () => picture,
    places: () => seen.hosts,
    box: () => svg?.getBoundingClientRect(),
    over: (part, to) => onover?.(part, to),
    drop: (part, to) => onmove?.(part, to),
  });
  function figure(amount: number): string {
    if (bytes) return size(amount);
    return reading === 'vcpu' ? String(Math.round(amount / 2 ** 30)) : gib(amount);
  }
  const unit = $derived(reading === 'vcpu' ? 'vCPU' : 'GiB');
  const isDim = (...words: string[]) =>
    filter !== '' && !words.some((word) => word.toLowerCase().includes(filter.toLowerCase()));
  /** The host behind a column: itself, or the one a datastore is local to. */
  const hostOf = (place: Place) => (place.store ? (place.on ?? '') : place.name);
  const isShort = (place: Place) => bytes && place.memory_bytes > place.limit_bytes;
  const now = Date.now() / 1000;
  function foot(c: Column, wide = c.w > 120): string {
    if (c.host.trouble) return 'unreachable';
    if (lost.includes(hostOf(c.host))) return 'lost';
    if (reading === 'networks') return networkWords(c.host, wanted);
    const told = footOf(reading, c.host, { losses, now });
    if (told) return told;
    if (c.host.bare)
      return bareWords(c.host, c.stones.length + c.ghosts.length > 0, c.w > 180, c.w > 104);
    return wide
      ? `${figure(c.free)} of ${figure(c.host.limit_bytes)} ${unit} free`
      : `${figure(c.free)} free`;
  }
  function bareWords(host: Place, taken: boolean, wide: boolean, roomy: boolean): string {
    const many = host.drives?.length ?? 0;
    if (!many) return 'drives unknown';
    const whose = taken ? 'taken' : 'free';
    if (!wide && !roomy) return whose;
    const drives = count(many, 'drive');
    return wide
      ? `${whose} · ${figure(host.memory_bytes)} ${unit}, ${drives}`
      : `${whose}, ${drives}`;
  }
  const isAlarm = (c: Column) =>
    Boolean(c.host.trouble) ||
    isShort(c.host) ||
    isOdd(reading, c.host, now) ||
    (reading === 'networks' &&
      !c.host.bare &&
      wanted.some((one) => !c.host.networks.includes(one)));
  function down(event: PointerEvent, part: Part) {
    onselect?.(nodeOf(part), bytes ? (part.column ?? 'datastore') : 'host');
    if (onmove && !event.button) drag.begin(event, part);
  }
  function look(event: PointerEvent) {
    const x = event.clientX - (svg?.getBoundingClientRect().left ?? 0),
      y = event.clientY - (svg?.getBoundingClientRect().top ?? 0);
    const column = picture.columns.find(
      (c) => c.dense && x >= c.x - 1 && x <= c.x + c.w + 1 && y >= c.top - 12 && y <= c.base + 66,
    );
    pointer = column ? { x, column } : null;
  }
</script>

<div class="wall" bind:clientWidth={width}>
  <svg
    bind:this={svg}
    {width}
    {height}
    aria-hidden="true"
    class:moving={drag.now}
    onpointermove={look}
    onpointerleave={() => {
      pointer = null;
    }}
  >
    <defs>
      <pattern
        id="rock"
        width="7"
        height="7"
        patternUnits="userSpaceOnUse"
        patternTransform="rotate(38)"
        ><rect width="7" height="7" class="rock" /><path d="M0 0V7" class="vein" /></pattern
      >
      <pattern
        id="skip"
        width="5"
        height="5"
        patternUnits="userSpaceOnUse"
        patternTransform="rotate(45)"><path d="M0 0V5" class="vein dark" /></pattern
      >
    </defs>
    {#each picture.groups as group (group.name + group.x + group.y)}<text
        x={group.x}
        y={group.y}
        class="group">{group.name}</text
      >{/each}
    {#each picture.columns as c (c.host.name)}<WallColumn
        column={c}
        foot={foot(c)}
        alarm={isAlarm(c)}
        dim={isDim(c.host.name, ...c.stones.map((s) => s.node.name))}
        short={isShort(c.host)}
        lost={lost.includes(hostOf(c.host))}
        over={drag.now?.over === c.host.name}
        onchoose={() => {
          if (hostOf(c.host)) onhost?.(hostOf(c.host));
        }}
        >{#each c.stones as s (s.id)}<WallStone
            stone={s}
            host={c.host.name}
            state={states?.get(s.id) ?? PLAIN}
            told={states !== undefined}
            dense={c.dense}
            figure={figure(s.memory)}
            selected={selected === nodeOf(s.node)}
            trouble={!bytes && (trouble?.has(s.id) ?? false)}
            lifted={drag.now?.node === s.id}
            ondown={(e) => down(e, s.node)}
          />{/each}</WallColumn
      >{/each}
    {#if drag.now}<g class="ghost"
        ><rect x={drag.now.x - 40} y={drag.now.y - 11} width="80" height="22" rx="3" /><text
          x={drag.now.x}
          y={drag.now.y + 4}
          text-anchor="middle">{drag.now.over || '…'}</text
        ></g
      >{/if}
  </svg>
  {#if pointer && !drag.now}
    {@const { host, stones, bedrock } = pointer.column}
    <Lens name={host.name} place={placeOf(host)} x={pointer.x} {width}>
      <p>{host.trouble || foot(pointer.column, true)} · {count(bedrock.length, 'existing VM')}</p>
      {#if stones.length}<p class="mono">{listed(stones.map((one) => one.node.name))}</p>{/if}
    </Lens>
  {/if}
  <p class="visually-hidden">
    {hosts.length} hosts, {nodes.length} nodes; the table below has every value.
  </p>
</div>

<style>
  .wall {
    width: 100%;
    min-width: 0;
    overflow: hidden;
    position: relative;
    flex: none;
  }
  svg {
    display: block;
    user-select: none;
    -webkit-user-select: none;
  }
  .moving {
    cursor: grabbing;
  }
  text {
    font: 12px var(--sans);
    fill: var(--ink);
    pointer-events: none;
  }
  .group {
    fill: var(--soft);
    font-size: 13px;
  }
  .rock {
    fill: var(--rock);
  }
  .vein {
    stroke: var(--hatch);
    stroke-width: 1.4;
  }
  .vein.dark {
    stroke: var(--soft);
    stroke-width: 2;
  }
  .ghost rect {
    fill: var(--accent);
  }
  .ghost text {
    fill: var(--accent-ink);
  }
</style>
