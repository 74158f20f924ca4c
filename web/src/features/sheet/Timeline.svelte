<script lang="ts">
  /** A run in time: a row a node, its steps as bars. */
  import type { RunView } from '../../lib/api/types';
  import { clock, span } from '../../lib/format';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import { stateOf } from '../rollout/states';
  import type { Progress } from '../rollout/rollout.svelte';
  import StepBar from './StepBar.svelte';
  import { reachOf, rowsOf, spanOf, ticksOf, type States } from './timeline';

  interface Props {
    run: RunView;
    now: number;
    filter: string;
    states: States;
    selected: string;
    onstep: (key: string) => void;
    onnode: (node: string) => void;
    progress: Progress;
  }
  let { run, now, filter, states, selected, onstep, onnode, progress }: Props = $props();
  const ROW = 31;
  let scroll = $state(0),
    viewport = $state(300),
    width = $state(600);
  let box: HTMLDivElement | undefined = $state();
  let elapsed = $derived((run.ended_at ?? now) - run.started_at);
  let reach = $derived(reachOf(run, elapsed));
  let wanted = $derived(filter.toLowerCase());
  let rows = $derived(
    rowsOf(run, states, progress).filter(
      (row) => !wanted || `${row.name} ${row.text}`.toLowerCase().includes(wanted),
    ),
  );
  let first = $derived(Math.max(0, Math.floor(scroll / ROW) - 4));
  let visible = $derived(rows.slice(first, first + Math.ceil(viewport / ROW) + 8));
  let ticks = $derived(ticksOf(reach, width));
  const x = (s: number) => (s / reach) * (width - 12);
  const wide = (from: number, to: number) => Math.max(3, x(to) - x(from) - 1);
  function share(key: string): number | null {
    const told = progress[key];
    return told?.total ? (told.sent ?? 0) / told.total : null;
  }
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
            {@const p = spanOf(step, run, elapsed)}
            <StepBar
              {step}
              name={row.name}
              role={row.role}
              left={x(p.from)}
              width={wide(p.from, p.to)}
              room={wide(p.from, p.room)}
              part={share(step.key)}
              chosen={selected === step.key}
              onchoose={() => onstep(step.key)}
            />
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

  @media print {
    .timeline {
      overflow: visible;
      height: auto;
    }
  }
</style>
