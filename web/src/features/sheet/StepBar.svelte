<script lang="ts">
  /** A step in time: as long as it took, lasts, or is expected to take. */
  import type { StepView } from '../../lib/api/types';
  import { span } from '../../lib/format';

  interface Props {
    step: StepView;
    /** Whose it is, and which role's colour it has; -1: shared by nodes. */
    name: string;
    role: number;
    /** Pixels from the left, as wide as it is, and as it is expected to become. */
    left: number;
    width: number;
    room: number;
    /** Share that is done, 0 to 1; null where nobody counts. */
    part: number | null;
    chosen: boolean;
    onchoose: () => void;
  }
  let { step, name, role, left, width, room, part, chosen, onchoose }: Props = $props();
  let works = $derived(step.state === 'working' || step.state === 'waiting');
  let took = $derived(
    step.ended_at && step.started_at
      ? span(step.ended_at - step.started_at)
      : `expected ${span(step.expected_s)}`,
  );
</script>

{#if works}<i class="ahead" style:left={`${left}px`} style:width={`${room}px`}></i>{/if}
<button
  class="bar"
  class:chosen
  data-state={step.state}
  data-kind={step.kind}
  style:left={`${left}px`}
  style:width={`${width}px`}
  style:--role={role < 0 ? 'var(--strong-line)' : `var(--role-${role % 5})`}
  style:--bar-ink={role < 0 ? 'var(--ink)' : 'var(--on-role)'}
  aria-label={`${name}: ${step.label}, ${step.state}`}
  title={`${step.label}: ${step.state}, ${took}${step.message ? ` · ${step.message}` : ''}`}
  onclick={onchoose}
  >{#if part !== null}<em style:width={`${part * 100}%`}></em>{/if}{#if width > 52}<span
      >{step.label}</span
    >{/if}</button
>

<style>
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
</style>
