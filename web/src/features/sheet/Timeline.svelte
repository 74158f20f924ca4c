<script lang="ts">
  import type { RunView, StepView } from '../../lib/api/types';
  import { clock, span } from '../../lib/format';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import { stateOf } from '../rollout/states';
  import type { Mark } from '../../lib/ui/marks';

  interface Props {
    run: RunView;
    now: number;
    filter: string;
    states: Map<string, { mark: Mark; share: number; text?: string }>;
    selected: string;
    onstep: (key: string) => void;
    onnode: (node: string) => void;
    progress: Record<string, { sent?: number; total?: number; tries?: number }>;
  }
  let { run, now, filter, states, selected, onstep, onnode, progress }: Props = $props();
  const ROW = 31;
  let scroll = $state(0),
    viewport = $state(300),
    width = $state(600);
  let box: HTMLDivElement | undefined = $state();
  let elapsed = $derived((run.ended_at ?? now) - run.started_at);
  let reach = $derived(
    Math.max(10, elapsed * 1.02, run.ended_at ? 0 : Math.max(...run.steps.map((s) => s.end_s))),
  );
  let rows = $derived.by(() => {
    const by = new Map<string, StepView[]>();
    for (const step of run.steps) by.set(step.node, [...(by.get(step.node) ?? []), step]);
    const words = (id: string) => states.get(id)?.text ?? '';
    const nodes = run.nodes.map((n) => ({
      id: n.id,
      name: n.name,
      role: n.role_index,
      text: words(n.id),
      steps: by.get(n.id) ?? [],
    }));
    const common = new Map<string, StepView[]>();
    for (const step of by.get('') ?? []) {
      const place = step.kind === 'call' ? 'cluster' : step.label.replace(/^Copy image to /, '');
      common.set(place, [...(common.get(place) ?? []), step]);
    }
    const others = [...common].map(([name, steps]) => ({
      id: `:${name}`,
      name,
      role: -1,
      text: stateOf(steps, run, progress).text.replace(/^deployed.*/, 'done'),
      steps,
    }));
    return [...nodes, ...others].filter(
      (row) =>
        filter === '' || `${row.name} ${row.text}`.toLowerCase().includes(filter.toLowerCase()),
    );
  });
  let first = $derived(Math.max(0, Math.floor(scroll / ROW) - 4));
  let visible = $derived(rows.slice(first, first + Math.ceil(viewport / ROW) + 8));
  let ticks = $derived.by(() => {
    const step =
      [5, 10, 15, 30, 60, 120, 300, 600, 1800, 3600, 7200].find((s) => reach / s <= 7) ?? 14400;
    return Array.from({ length: Math.floor(reach / step) + 1 }, (_, i) => i * step);
  });
  const x = (s: number) => (s / reach) * (width - 12);
  function place(step: StepView) {
    const begun = step.started_at ? step.started_at - run.started_at : step.start_s;
    const gone =
      run.undone_at || run.state === 'undoing' ? (run.ended_at ?? now) - run.started_at : 0;
    const end = step.ended_at
      ? step.ended_at - run.started_at
      : gone && step.started_at
        ? Math.max(gone, begun)
        : step.state === 'working' || step.state === 'waiting'
          ? Math.max(elapsed, begun)
          : step.end_s;
    const room =
      step.state === 'working' || step.state === 'waiting'
        ? Math.max(end, begun + step.expected_s)
        : end;
    return {
      left: x(begun),
      width: Math.max(3, x(end) - x(begun) - 1),
      full: Math.max(3, x(room) - x(begun) - 1),
    };
  }
  const share = (key: string) => {
    const p = progress[key];
    return p?.total ? (p.sent ?? 0) / p.total : null;
  };
</script>

<div
  class="timeline"
  bind:this={box}
  bind:clientHeight={viewport}
  onscroll={() => {
    scroll = box?.scrollTop ?? 0;
  }}
  role="table"
  aria-label="Time line"
>
  <div class="head" role="row">
    <span role="columnheader" class="name">Node</span><span role="columnheader" class="now"
      >Now</span
    >
    <span class="axis" role="columnheader" aria-label="time" bind:clientWidth={width}
      >{#each ticks as t (t)}<i style:left={`${x(t)}px`}
          >{t ? `+${span(t)}` : clock(run.started_at).slice(0, 5)}</i
        >{/each}</span
    >
  </div>
  <div class="inner" style:height={`${rows.length * ROW}px`}>
    {#each visible as row, i (row.id)}
      {@const state = row.role < 0 ? stateOf(row.steps, run, progress) : states.get(row.id)}
      <div class="row" role="row" style:top={`${(first + i) * ROW}px`}>
        <!-- svelte-ignore a11y_click_events_have_key_events, a11y_interactive_supports_focus -->
        <span
          class="name"
          role="rowheader"
          onclick={() => {
            if (row.role < 0) onstep(row.steps[0]?.key ?? '');
            else onnode(row.id);
          }}
          ><i style:background={row.role < 0 ? 'var(--strong-line)' : `var(--role-${row.role % 5})`}
          ></i><b class:plain={row.role < 0}>{row.name}</b></span
        >
        <span class="now" role="cell" data-state={state?.mark}
          >{#if state}<StateMark state={state.mark} size={13} />{/if}
          {row.text}</span
        >
        <span class="axis" role="cell">
          {#each ticks as t (t)}<i class="tick" style:left={`${x(t)}px`}></i>{/each}
          {#each row.steps as step (step.key)}
            {@const p = place(step)}
            {@const part = share(step.key)}
            {#if step.state === 'working' || step.state === 'waiting'}<i
                class="ahead"
                style:left={`${p.left}px`}
                style:width={`${p.full}px`}
              ></i>{/if}
            <button
              class="bar"
              class:chosen={selected === step.key}
              data-state={step.state}
              data-kind={step.kind}
              style:left={`${p.left}px`}
              style:width={`${p.width}px`}
              style:--role={row.role < 0 ? 'var(--strong-line)' : `var(--role-${row.role % 5})`}
              style:--bar-ink={row.role < 0 ? 'var(--ink)' : 'var(--on-role)'}
              aria-label={`${row.name}: ${step.label}, ${step.state}`}
              title={`${step.label}: ${step.state}${step.ended_at && step.started_at ? `, ${span(step.ended_at - step.started_at)}` : `, expected ${span(step.expected_s)}`}${step.message ? ` · ${step.message}` : ''}`}
              onclick={() => onstep(step.key)}
              >{#if part !== null}<em style:width={`${part * 100}%`}
                ></em>{/if}{#if p.width > 52}<span>{step.label}</span>{/if}</button
            >
          {/each}
          {#if !run.ended_at}<i class="line" style:left={`${x(elapsed)}px`}></i>{/if}
        </span>
      </div>
    {/each}
  </div>
</div>

<style>
  .timeline {
    flex: 1;
    min-height: 0;
    overflow: auto;
    border-top: 1px solid var(--strong-line);
  }
  .head,
  .row {
    display: flex;
    height: 31px;
    align-items: center;
    width: 100%;
  }
  .head {
    position: sticky;
    top: 0;
    background: var(--sunk);
    z-index: 3;
    font-size: var(--text-s);
    color: var(--soft);
  }
  .inner {
    position: relative;
  }
  .row {
    position: absolute;
    left: 0;
    border-bottom: 1px solid var(--line);
  }
  .name {
    width: 176px;
    flex: none;
    padding: 0 8px;
    display: flex;
    gap: 8px;
    align-items: center;
    overflow: hidden;
    white-space: nowrap;
  }
  .row .name {
    cursor: pointer;
  }
  .name i {
    width: 5px;
    height: 17px;
    flex: none;
  }
  b {
    font-weight: 600;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  b.plain {
    font-weight: 400;
    color: var(--soft);
    font-style: italic;
  }
  .now {
    width: 214px;
    flex: none;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    font-size: var(--text-s);
    color: var(--soft);
    padding-right: 10px;
  }
  .now[data-state='failed'] {
    color: var(--blocker);
  }
  .axis {
    position: relative;
    flex: 1;
    height: 100%;
    min-width: 200px;
  }
  .head .axis i {
    position: absolute;
    top: 7px;
    font: 11px var(--mono);
    color: var(--muted);
    white-space: nowrap;
  }
  .tick {
    position: absolute;
    top: 0;
    bottom: 0;
    border-left: 1px dotted var(--line);
  }
  .line {
    position: absolute;
    top: 0;
    bottom: -1px;
    border-left: 2px solid var(--accent);
    z-index: 2;
    pointer-events: none;
  }
  .ahead {
    position: absolute;
    top: 8px;
    height: 15px;
    border: 1px dashed var(--strong-line);
  }
  .bar {
    position: absolute;
    top: 8px;
    height: 15px;
    padding: 0;
    border: 1px solid var(--role);
    background: none;
    cursor: pointer;
    overflow: hidden;
    border-radius: 1px;
    font-size: 11px;
    line-height: 13px;
    color: var(--soft);
    text-align: left;
  }
  .bar:hover,
  .bar.chosen {
    box-shadow: 0 0 0 2px var(--accent);
    z-index: 1;
  }
  .bar span {
    padding-left: 5px;
    position: relative;
    white-space: nowrap;
  }
  .bar em {
    position: absolute;
    inset: 0 auto 0 0;
    background: var(--role);
    opacity: 0.55;
  }
  [data-state='done'].bar {
    background: var(--role);
    color: var(--bar-ink);
  }
  [data-state='done'][data-kind='boot'],
  [data-state='done'][data-kind='services'] {
    background: color-mix(in srgb, var(--role) 60%, var(--paper));
    color: var(--ink);
  }
  [data-state='working'].bar {
    background: color-mix(in srgb, var(--role) 45%, transparent);
  }
  [data-state='waiting'].bar {
    background: repeating-linear-gradient(
      135deg,
      color-mix(in srgb, var(--role) 45%, transparent) 0 3px,
      transparent 3px 7px
    );
  }
  [data-state='planned'].bar {
    border-style: dashed;
    border-color: var(--strong-line);
  }
  [data-state='failed'].bar {
    border: 2px solid var(--blocker);
    background: var(--blocker-wash);
    color: var(--blocker);
  }
  [data-state='skipped'].bar {
    background: repeating-linear-gradient(45deg, var(--line) 0 2px, transparent 2px 5px);
  }
  [data-state='undone'].bar {
    border-style: dotted;
    opacity: 0.6;
  }
  @media print {
    .timeline {
      overflow: visible;
      height: auto;
    }
  }
</style>
