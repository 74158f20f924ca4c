<script lang="ts">
  import type { RunBody } from '../../lib/api/paths';
  import { get } from '../../lib/api/client';
  import type { RunView, StepView } from '../../lib/api/types';
  import { clock, count, inside, size, span, utc } from '../../lib/format';
  import { eventWords, placeOf, stepName, tells } from './journal';
  import Journal from './Journal.svelte';
  import StepActions from './StepActions.svelte';
  import Transcript from './Transcript.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import type { Progress } from '../rollout/rollout.svelte';
  import Section from './Section.svelte';

  interface Props {
    run: RunView;
    step: StepView | undefined;
    now: number;
    progress: Progress;
    onrequest: (request: string, body?: RunBody) => void;
    onundo: () => void;
  }
  let { run, step, now, progress, onrequest, onundo }: Props = $props();
  let consoleText = $state(''),
    consoleTrouble = $state('');
  let journal = $state(false);
  let end: HTMLPreElement | undefined = $state();
  let node = $derived(run.nodes.find((n) => n.id === step?.node));
  /** A bare machine's console is its controller's. */
  let bare = $derived(node?.cells['on']?.value === 'machines');
  let live = $derived(run.state === 'running' || run.state === 'trouble' || run.state === 'held');
  let told = $derived(progress[step?.key ?? '']);
  let facts = $derived.by(() => {
    if (!step) return '';
    if (step.ended_at && step.started_at) return `took ${span(step.ended_at - step.started_at)}`;
    if (step.started_at && (step.state === 'working' || step.state === 'waiting'))
      return `${span(now - step.started_at)} of ~${span(step.expected_s)}`;
    return `expected ${span(step.expected_s)}`;
  });

  $effect(() => {
    const id = run.id,
      name = bare ? '' : step?.node,
      going = live;
    consoleText = '';
    consoleTrouble = '';
    if (!name || run.state === 'undone') return;
    const stop = new AbortController();
    const read = () =>
      get(`/runs/${id}/console?node=${name}`, stop.signal)
        .then((found) => {
          consoleText = found.text;
          consoleTrouble = found.trouble;
          queueMicrotask(() => end?.scrollTo(0, end.scrollHeight));
        })
        .catch(() => undefined);
    void read();
    const timer = going ? setInterval(read, 1500) : undefined;
    return () => {
      stop.abort();
      clearInterval(timer);
    };
  });
  const made = $derived(
    run.steps
      .filter((s) => s.kind === 'define' && (s.state === 'done' || s.state === 'failed'))
      .map((s) => run.nodes.find((n) => n.id === s.node))
      .filter((n) => n !== undefined),
  );
  /** Nodes that became hypervisor hosts. */
  const added = $derived(
    run.steps
      .filter((s) => s.kind === 'enroll' && s.state === 'done')
      .map((s) => run.nodes.find((n) => n.id === s.node))
      .filter((n) => n !== undefined),
  );
  const digest = $derived(
    run.events
      .filter((e) => tells(String(e.kind)))
      .slice(-9)
      .reverse(),
  );
  const attempts = $derived(run.attempts.filter((a) => a.step === step?.key));
  /** The step's state in words: what it does, how long, what it waits for. */
  let said = $derived.by(() => {
    if (!step) return '';
    const elapsed = step.started_at ? now - step.started_at : 0;
    if (step.state === 'planned') return step.queued ? `Queued: ${step.queued}.` : 'Queued.';
    if (step.state === 'waiting') {
      const lost = told?.lost ? `Lost contact, still waiting: ${told.lost} ` : '';
      const fails = told?.left_s !== undefined ? `, fails in ${span(told.left_s)}` : '';
      const words = told?.words ? `Reported: ${told.words}. ` : '';
      return `${lost}${words}Waiting: ${span(elapsed)} of about ${span(step.expected_s)}, ${count(told?.tries ?? 0, 'check')}${fails}.`;
    }
    if (step.state === 'working')
      return `Running: ${span(elapsed)} of about ${span(step.expected_s)}.`;
    if (step.state === 'undoing') return 'Rolling back.';
    if (step.state === 'undone') return step.undo_failed ? 'Not undone.' : 'Rolled back.';
    const took = step.ended_at && step.started_at ? span(step.ended_at - step.started_at) : '';
    if (step.undo_failed) return 'Rollback failed.';
    if (step.state === 'failed') return took ? `Failed after ${took}.` : 'Failed.';
    if (step.state === 'skipped') return 'Skipped.';
    return took ? `Done in ${took}.` : 'Done.';
  });
</script>

{#if step}
  <Section title={`${node?.name ?? placeOf(step)} · ${inside(step.label)}`} aside={facts}>
    <p class="state">
      <StateMark state={step.state === 'undoing' ? 'working' : (step.state as 'planned')} />
      {said}{step.attempt > 1 ? ` Attempt ${step.attempt}.` : ''}{#if told?.total}
        {size(told.sent ?? 0)} of {size(told.total)}, {size(told.rate ?? 0)}/s, {span(
          ((told.total ?? 0) - (told.sent ?? 0)) / Math.max(1, told.rate ?? 1),
        )} left.{/if}
    </p>
    {#if step.undo_failed && step.state === 'failed' ? step.undo_message : step.message}<p
        class="message"
        class:bad={step.state === 'failed'}
      >
        {step.undo_failed && step.state === 'failed' ? step.undo_message : step.message}
      </p>{/if}
    {#if step.hint}<p class="message">{step.hint}</p>{/if}
    {#if step.state === 'undone' && step.undo_message}<p class="message">
        {step.undo_message}
      </p>{/if}
    {#if attempts.length > 1}<p class="message quiet">
        {attempts
          .slice(0, -1)
          .map(
            (a, i) =>
              `attempt ${i + 1} ${a.outcome || 'ended'}${a.ended_at ? ` after ${span(a.ended_at - a.started_at)}` : ''}`,
          )
          .join(', ')}
      </p>{/if}
    {#if run.state !== 'undone'}<StepActions
        {step}
        undoing={run.state === 'undoing'}
        {onrequest}
      />{/if}
    <Transcript
      run={run.id}
      step={step.key}
      host={step.host}
      failed={step.state === 'failed'}
      stamp={`${run.last_event} ${told?.tries ?? ''}`}
    />
  </Section>
  {#if node && !bare}
    <Section title="Console" aside={node.name}>
      <pre class="console mono" bind:this={end}>{consoleText ||
          consoleTrouble ||
          'Nothing on the serial console yet.'}</pre>
    </Section>
  {/if}
{:else}<p class="quiet">Select a step to see its commands and output.</p>{/if}

{#if added.length}<Section title="Hosts" aside={`bay ${run.plan}`}>
    <p class="message">
      {count(added.length, 'node')}
      {added.length === 1 ? 'is a host' : 'are hosts'} of the estate:
      {#each added.slice(0, 6) as n, i (n.id)}{i ? ', ' : ''}<a href={`/estate/hosts/${n.name}`}
          >{n.name}</a
        >{/each}{added.length > 6 ? ` and ${added.length - 6} more` : ''}.
    </p>
    <a class="next" href={`/plans?bay=${run.plan}`}>New plan on them</a>
  </Section>{/if}
<Section title="Events">
  <ul>
    {#each digest as e (e.id)}<li title={utc(Number(e.at))}>
        <span class="mono">{clock(Number(e.at))}</span><span class:bad={e.kind === 'failed'}
          >{stepName(run, String(e.step))}: {eventWords(String(e.kind))}</span
        >
      </li>{/each}
  </ul>
  <Button
    kind="link"
    onclick={() => {
      journal = true;
    }}>Full journal …</Button
  >
</Section>
<div class="acts">
  <a href={`/api/runs/${run.id}/acceptance.html`} hidden={!run.proofs.length} download>Report</a>
  {#if run.state !== 'undone' && run.state !== 'undoing'}<Button kind="danger" onclick={onundo}
      >Roll back …</Button
    >{/if}
  {#if made.length && run.state === 'undone'}<span class="quiet">rolled back</span>{/if}
</div>

{#if journal}<Journal
    {run}
    onclose={() => {
      journal = false;
    }}
  />{/if}

<style>
  .state {
    font-size: var(--text-s);
    color: var(--soft);
    margin-bottom: 4px;
  }
  .message {
    font-size: var(--text-s);
    margin-bottom: 6px;
  }
  .next {
    display: inline-block;
    font-weight: 600;
    padding: 2px 0 6px;
  }
  .bad {
    color: var(--blocker);
  }
  .acts {
    display: flex;
    gap: 8px;
    margin: 6px 0 8px;
    align-items: center;
  }
  pre {
    margin: 0;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
  }
  .console {
    background: var(--sunk);
    border: 1px solid var(--line);
    padding: 8px 10px;
    font-size: 11px;
    height: 132px;
    overflow: auto;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  li {
    display: grid;
    grid-template-columns: 66px 1fr;
    font-size: var(--text-s);
    color: var(--soft);
  }
  li .mono {
    color: var(--muted);
  }
</style>
