<script lang="ts" module>
  /** What a step under way says of itself: bytes sent of how many, and how many a second. */
  export interface Told {
    sent?: number;
    total?: number;
    rate?: number;
  }
</script>

<script lang="ts">
  /** The steps of a preparation run: host by host, and one row for each machine that is inspected. */
  import type { GroundRun } from '../../lib/api/types';
  import { size, span } from '../../lib/format';
  import StateMark from '../../lib/ui/StateMark.svelte';

  interface Props {
    run: GroundRun;
    chosen: string;
    /** Those that are machines. */
    machines: Set<string>;
    /** By the step's key. */
    progress: Record<string, Told>;
    onchoose: (key: string) => void;
  }
  let { run, chosen, machines, progress, onchoose }: Props = $props();
  type Step = GroundRun['steps'][number];
  const place = (name: string) => `/estate/${machines.has(name) ? 'machines' : 'hosts'}/${name}`;
  const mark = (state: string) => (state === 'undoing' ? 'working' : state) as 'planned';
  /** A machine's step in a word or two: the last part of its key says which one it is. */
  function shown(one: Step): string {
    const part = one.key.split(':').at(-1) ?? '';
    if (part === 'end') return 'eject';
    if (part !== 'report') return part;
    return { 'wipe-drives': 'wipe', 'write-image': 'write' }[one.kind] ?? part;
  }
  /** How a step stands, in a few words. */
  function told(one: Step): string {
    const { sent, total, rate } = progress[one.key] ?? {};
    if (['working', 'waiting'].includes(one.state) && sent && total) {
      if (sent >= total) return `${size(total)} fetched; it is written and read back`;
      const pace = rate ? ` at ${size(rate)}/s, ${span((total - sent) / rate)} left` : '';
      return `${size(sent)} of ${size(total)}${pace}`;
    }
    if (one.message || one.state !== 'done') return one.message || one.state;
    if (!one.ended_at || !one.started_at) return 'done';
    return `done, ${span(Math.max(1, one.ended_at - one.started_at))}`;
  }
  /** What is worth a line of its own in a machine's row: what failed, or is under way. */
  function now(steps: Step[]): Step | undefined {
    return (
      steps.find((s) => s.state === 'failed') ??
      steps.find((s) => ['working', 'waiting', 'undoing'].includes(s.state)) ??
      steps.findLast((s) => s.state !== 'planned')
    );
  }
</script>

{#each run.hosts as host (host)}
  {@const steps = run.steps.filter((s) => s.host === host)}
  {#if machines.has(host)}
    {@const one = now(steps)}
    <section class="machine">
      <h2><a href={place(host)}>{host}</a></h2>
      <ol class="across">
        {#each steps as s (s.key)}<li class:chosen={s.key === chosen}>
            <button title={`${s.label}: ${told(s)}`} onclick={() => onchoose(s.key)}
              ><StateMark state={mark(s.state)} /><span>{shown(s)}</span></button
            >
          </li>{/each}
      </ol>
      <span class="quiet said" class:bad={one?.state === 'failed'} title={one ? told(one) : ''}
        >{one ? told(one) : 'planned'}</span
      >
    </section>
  {:else}
    <section>
      <h2><a href={place(host)}>{host}</a></h2>
      <ol>
        {#each steps as s (s.key)}<li class:chosen={s.key === chosen}>
            <button onclick={() => onchoose(s.key)}
              ><StateMark state={mark(s.state)} /><span>{s.label}</span><span
                class="quiet said"
                class:bad={s.state === 'failed'}>{told(s)}</span
              ></button
            >
          </li>{/each}
      </ol>
    </section>
  {/if}
{/each}

<style>
  h2 {
    font-size: var(--text-m);
    font-weight: 600;
    border-bottom: 1px solid var(--line);
  }
  h2 a {
    color: var(--ink);
    text-decoration: none;
  }
  h2 a:hover {
    color: var(--accent);
  }
  ol {
    list-style: none;
    margin: 0 0 14px;
    padding: 0;
  }
  li button {
    display: grid;
    grid-template-columns: 18px minmax(0, 1fr) minmax(0, 1fr);
    gap: 8px;
    width: 100%;
    border: 0;
    background: none;
    padding: 4px 6px;
    text-align: left;
    cursor: pointer;
    align-items: baseline;
  }
  li button:hover {
    color: var(--accent);
  }
  .chosen {
    background: var(--accent-wash);
  }
  .said {
    font-size: var(--text-s);
  }
  .bad {
    color: var(--blocker) !important;
  }
  .machine {
    display: grid;
    grid-template-columns: minmax(80px, 130px) auto minmax(0, 1fr);
    gap: 10px;
    align-items: center;
    border-bottom: 1px solid var(--line);
  }
  .machine h2 {
    border: 0;
    margin: 0;
    overflow-wrap: anywhere;
  }
  .machine .said {
    display: -webkit-box;
    -webkit-box-orient: vertical;
    -webkit-line-clamp: 2;
    line-clamp: 2;
    overflow: hidden;
  }
  .across {
    display: flex;
    margin: 0;
  }
  .across button {
    grid-template-columns: 18px minmax(0, 1fr);
  }
</style>
