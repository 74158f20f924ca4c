<script lang="ts">
  import type { ClaimView, HostView, NodeView, PlanView } from '../../lib/api/types';
  import { gib, middle, size } from '../../lib/format';
  import { WORDS, type Mark } from '../../lib/ui/marks';
  import { layout, measured, nodeOf, type Part, type Place, type Reading } from './wall';

  interface Props {
    hosts: HostView[];
    nodes: NodeView[];
    states?: Map<string, { mark: Mark; share: number; text?: string }>;
    selected?: string;
    filter?: string;
    onselect?: (node: string, column: string) => void;
    onhost?: (host: string) => void;
    onmove?: (part: Part, to: Place) => void;
    onover?: (part: Part, to: Place | null) => void;
    lines?: PlanView['stores'];
    height?: number;
    trouble?: Set<string>;
    lost?: string[];
    claims?: ClaimView[];
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
    reading = 'memory',
  }: Props = $props();
  let width = $state(900);
  let dragging = $state<{ node: string; x: number; y: number; over: string } | null>(null);
  let svg: SVGSVGElement | undefined = $state();
  let seen = $derived(measured(hosts, nodes, reading, lines));
  let picture = $derived(
    layout(seen.hosts, seen.nodes, width, height, reading === 'memory' ? claims : []),
  );
  let wanted = $derived(
    reading === 'networks'
      ? [
          ...new Set(
            nodes.flatMap((n) =>
              Object.entries(n.cells)
                .filter(([k]) => k === 'network' || k.endsWith('.network'))
                .map(([, c]) => c.value),
            ),
          ),
        ].filter(Boolean)
      : [],
  );
  let bytes = $derived(reading === 'stores' || reading === 'full');
  const figure = (bytes: number) =>
    reading === 'stores' || reading === 'full'
      ? size(bytes)
      : reading === 'vcpu'
        ? String(Math.round(bytes / 2 ** 30))
        : gib(bytes);
  const unit = $derived(reading === 'vcpu' ? 'vCPU' : 'GiB');
  const dim = (...words: string[]) =>
    filter !== '' && !words.some((word) => word.toLowerCase().includes(filter.toLowerCase()));
  /** The host behind a column: itself, or the one a datastore is local to. */
  const hostOf = (place: Place) => (place.store ? (place.on ?? '') : place.name);
  const stateOf = (id: string) => states?.get(id) ?? { mark: 'planned' as Mark, share: 0 };
  const chars = (w: number) => Math.max(2, Math.floor((w - 44) / 6.6));

  function down(event: PointerEvent, part: Part) {
    const node = part.id;
    onselect?.(nodeOf(part), bytes ? (part.column ?? 'datastore') : 'host');
    if (!onmove || event.button) return;
    const start = { x: event.clientX, y: event.clientY },
      from = part.host;
    const place = (name: string) => seen.hosts.find((one) => one.name === name) ?? null;
    const at = (e: PointerEvent) => {
      const box = svg?.getBoundingClientRect();
      return { x: e.clientX - (box?.left ?? 0), y: e.clientY - (box?.top ?? 0) };
    };
    const move = (e: PointerEvent) => {
      if (!dragging && Math.hypot(e.clientX - start.x, e.clientY - start.y) < 5) return;
      const p = at(e);
      const over =
        picture.columns.find(
          (c) => p.x >= c.x && p.x <= c.x + c.w && p.y >= c.top - 20 && p.y <= c.base + 30,
        )?.host.name ?? '';
      if (over !== (dragging?.over ?? from)) onover?.(part, over === from ? null : place(over));
      dragging = { node, ...p, over };
    };
    const up = () => {
      removeEventListener('pointermove', move);
      const to = dragging && dragging.over !== from ? place(dragging.over) : null;
      if (to) onmove(part, to);
      else if (dragging) onover?.(part, null);
      dragging = null;
    };
    addEventListener('pointermove', move);
    addEventListener('pointerup', up, { once: true });
    addEventListener(
      'keydown',
      (e) => {
        if (e.key === 'Escape' && dragging) {
          dragging = null;
          removeEventListener('pointermove', move);
          onover?.(part, null);
        }
      },
      { once: true },
    );
  }
</script>

<div class="wall" bind:clientWidth={width}>
  <svg bind:this={svg} {width} {height} aria-hidden="true" class:moving={dragging}>
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
    {#each picture.columns as c (c.host.name)}
      <g
        class="host"
        class:lost={lost.includes(hostOf(c.host))}
        class:dim={dim(c.host.name, ...c.stones.map((s) => s.node.name))}
        class:short={bytes && c.host.memory_bytes > c.host.limit_bytes}
        class:over={dragging?.over === c.host.name}
        class:bad={c.host.trouble}
      >
        <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
        <rect
          x={c.x}
          y={c.top}
          width={c.w}
          height={c.base - c.top}
          class="shell"
          onclick={() => {
            if (hostOf(c.host)) onhost?.(hostOf(c.host));
          }}
        >
          <title
            >{c.host.name}: {size(c.free)} free below the limit of {size(c.host.limit_bytes)}; {size(
              c.host.memory_bytes,
            )} installed{c.host.trouble ? ` · ${c.host.trouble}` : ''}</title
          ></rect
        >
        {#if !c.dense}<line
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
            fill="url(#rock)"><title>{b.label} {size(b.memory)}, existing VM</title></rect
          >
          {#if !c.dense && b.h >= 14}<text x={b.x + 7} y={b.y + b.h / 2 + 3.5} class="small"
              >{middle(b.label, chars(b.w) + 2)}</text
            >{/if}
        {/each}
        {#each c.ghosts as g (g.id)}<g class="claimed"
            ><rect x={g.x} y={g.y} width={g.w} height={Math.max(1, g.h - 1)}
              ><title
                >{g.label}, {size(g.memory)}: {g.planned
                  ? 'planned by another plan'
                  : 'created by another run'}</title
              ></rect
            >{#if !c.dense && g.h >= 14}<text
                x={g.x + 7}
                y={g.y + g.h / 2 + 3.5}
                class="small plain">{middle(g.label, chars(g.w) + 2)}</text
              >{/if}</g
          >{/each}
        {#each c.stones as s (s.id)}
          {@const st = stateOf(s.id)}
          <!-- svelte-ignore a11y_no_static_element_interactions -->
          <g
            class="stone"
            data-state={st.mark}
            data-node={nodeOf(s.node)}
            class:selected={selected === nodeOf(s.node)}
            class:trouble={!bytes && trouble?.has(s.id)}
            class:lifted={dragging?.node === s.id}
            style:--role={`var(--role-${s.node.role_index % 5})`}
            onpointerdown={(e) => down(e, s.node)}
          >
            <title
              >{s.node.name} · {s.node.role_label} · {size(s.memory)} on {c.host.name}{states
                ? ` · ${WORDS[st.mark]}`
                : ''}</title
            >
            <clipPath id={`clip-${s.id.replace(' ', '-')}`}><path d={s.path} /></clipPath>
            <path d={s.path} class="body" />
            <g clip-path={`url(#clip-${s.id.replace(' ', '-')})`}>
              {#if st.share > 0}<rect
                  x={s.x}
                  y={s.y + s.h * (1 - st.share)}
                  width={s.w}
                  height={s.h * st.share}
                  class="fill"
                />{/if}
              {#if !c.dense}<rect x={s.x} y={s.y} width="6" height={s.h} class="edge" />{/if}
              {#if st.mark === 'skipped'}<rect
                  x={s.x}
                  y={s.y}
                  width={s.w}
                  height={s.h}
                  fill="url(#skip)"
                />{/if}
              {#if st.mark === 'held'}<rect
                  x={s.x - 2}
                  y={s.y + s.h / 2 - 1.5}
                  width={s.w + 4}
                  height="3"
                  class="cutout"
                />{/if}
            </g>
            <path d={s.path} class="outline" />
            {#if st.mark === 'failed'}<path
                d={`M${s.x + s.w * 0.62} ${s.y - 1}l${-s.w * 0.05} ${s.h * 0.4}l${s.w * 0.07} ${s.h * 0.14}l${-s.w * 0.06} ${s.h * 0.52}`}
                class="crack"
              />{/if}
            {#if !c.dense && s.h >= 13}
              <text x={s.x + 13} y={s.y + s.h / 2 + 4.5} class="label"
                >{middle(s.label, chars(s.w))}</text
              >
              {#if st.mark === 'proved'}<path
                  d={`M${s.x + s.w - 19} ${s.y + s.h / 2}l4 4.500 7-9`}
                  class="proof"
                />
              {:else if s.w > 90}<text
                  x={s.x + s.w - 7}
                  y={s.y + s.h / 2 + 4.5}
                  class="label figure">{figure(s.memory)}</text
                >{/if}
            {/if}
          </g>
        {/each}
        <line
          x1={c.x - (c.dense ? 0 : 3)}
          x2={c.x + c.w + (c.dense ? 0 : 3)}
          y1={c.base}
          y2={c.base}
          class="ground"
        />
        {#if !c.dense}
          <text x={c.x} y={c.base + 16} class="name"
            >{middle(c.host.name, Math.floor(c.w / 7))}</text
          >
          {#if reading === 'networks'}{@const missing = wanted.filter(
              (n) => !c.host.networks.includes(n),
            )}<text x={c.x} y={c.base + 31} class="foot" class:alarm={missing.length}
              >{missing.length
                ? middle(`missing: ${missing.join(', ')}`, Math.floor(c.w / 6.6))
                : middle(`has ${wanted.join(', ') || 'all networks'}`, Math.floor(c.w / 6.6))}</text
            >
          {:else}<text
              x={c.x}
              y={c.base + 31}
              class="foot"
              class:alarm={c.host.trouble || (bytes && c.host.memory_bytes > c.host.limit_bytes)}
              >{c.host.trouble
                ? 'unreachable'
                : lost.includes(hostOf(c.host))
                  ? 'lost'
                  : c.host.foot
                    ? middle(c.host.foot, Math.floor(c.w / 6.6))
                    : c.w > 120
                      ? `${figure(c.free)} of ${figure(c.host.limit_bytes)} ${unit} free`
                      : `${figure(c.free)} free`}</text
            >{/if}
        {/if}
      </g>
    {/each}
    {#if dragging}<g class="ghost"
        ><rect x={dragging.x - 40} y={dragging.y - 11} width="80" height="22" rx="3" /><text
          x={dragging.x}
          y={dragging.y + 4}
          text-anchor="middle">{dragging.over || '…'}</text
        ></g
      >{/if}
  </svg>
  <p class="visually-hidden">
    {hosts.length} hosts, {nodes.length} nodes; the table below has every value.
  </p>
</div>

<style>
  .wall {
    width: 100%;
    min-width: 0;
    overflow: hidden;
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
  .lost .outline {
    stroke-dasharray: 2 3;
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
  .rock {
    fill: var(--rock);
  }
  .vein {
    stroke: var(--hatch);
    stroke-width: 1.4;
  }
  .vein.dark {
    stroke: var(--role);
    stroke-width: 2;
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
  .stone {
    cursor: pointer;
  }
  .body {
    fill: var(--surface);
  }
  .fill {
    fill: var(--role);
    opacity: 0.55;
    transition:
      y 0.4s ease,
      height 0.4s ease;
  }
  .edge {
    fill: var(--role);
  }
  .outline {
    fill: none;
    stroke: var(--role);
    stroke-width: 1.5;
  }
  .label {
    font-size: 12.5px;
    font-weight: 600;
  }
  .figure {
    font: 11px var(--mono);
    text-anchor: end;
    fill: var(--soft);
    font-weight: 400;
  }
  [data-state='done'] .body,
  [data-state='proved'] .body {
    fill: var(--role);
  }
  [data-state='done'] .fill,
  [data-state='proved'] .fill {
    opacity: 1;
  }
  [data-state='done'] text,
  [data-state='proved'] text {
    fill: var(--on-role);
  }
  [data-state='waiting'] .outline {
    stroke-dasharray: 4 3;
    animation: breathe 2.8s ease-in-out infinite;
  }
  [data-state='undone'] .outline {
    stroke-dasharray: 2 4;
  }
  [data-state='failed'] .outline {
    stroke: var(--blocker);
    stroke-width: 2;
  }
  .crack {
    fill: none;
    stroke: var(--blocker);
    stroke-width: 2.2;
  }
  .proof {
    fill: none;
    stroke: var(--on-role);
    stroke-width: 2;
  }
  .cutout {
    fill: var(--paper);
  }
  .trouble .outline {
    stroke: var(--blocker);
    stroke-width: 2;
  }
  .selected .outline {
    stroke: var(--accent);
    stroke-width: 2.6;
  }
  .lifted {
    opacity: 0.45;
  }
  .ghost rect {
    fill: var(--accent);
  }
  .ghost text {
    fill: var(--accent-ink);
  }
  @keyframes breathe {
    50% {
      stroke-opacity: 0.25;
    }
  }
</style>
