<script lang="ts">
  import { get } from '../../lib/api/client';
  import type { Entry, RunView, StepView } from '../../lib/api/types';
  import { clock, inside, size, span, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import type { Progress } from '../rollout/rollout.svelte';
  import Section from './Section.svelte';

  interface Props { run: RunView; step: StepView | undefined; now: number; progress: Progress; onwish: (wish: string, body?: unknown) => void; onundo: () => void }
  let { run, step, now, progress, onwish, onundo }: Props = $props();
  let entries = $state.raw<Entry[]>([]);
  let consoleText = $state(''), consoleTrouble = $state('');
  let skipping = $state(false), reason = $state('');
  let shownFor = '';
  let open = $state<number | null>(null);
  let end: HTMLPreElement | undefined = $state();
  let node = $derived(run.nodes.find((n) => n.id === step?.node));
  let live = $derived(run.state === 'running' || run.state === 'trouble' || run.state === 'held');
  let told = $derived(progress[step?.key ?? '']);
  let facts = $derived.by(() => {
    if (!step) return '';
    if (step.ended_at && step.started_at) return `took ${span(step.ended_at - step.started_at)}`;
    if (step.started_at && (step.state === 'working' || step.state === 'waiting')) return `${span(now - step.started_at)} of ~${span(step.expected_s)}`;
    return `expected ${span(step.expected_s)}`;
  });

  $effect(() => {
    const key = step?.key, id = run.id;
    void [run.last_event, told?.tries];
    if (key !== shownFor) { entries = []; shownFor = key ?? ''; }
    if (!key) return;
    const stop = new AbortController();
    get<Entry[]>(`/runs/${id}/transcript?step=${encodeURIComponent(key)}`, stop.signal).then((found) => { entries = found; }).catch((e: unknown) => notices.problem(e));
    return () => stop.abort();
  });
  $effect(() => {
    const id = run.id, name = step?.node, going = live;
    consoleText = ''; consoleTrouble = '';
    if (!name || run.state === 'undone') return;
    const stop = new AbortController();
    const read = () => get<{ text: string; trouble: string }>(`/runs/${id}/console?node=${name}`, stop.signal)
      .then((found) => { consoleText = found.text; consoleTrouble = found.trouble; queueMicrotask(() => end?.scrollTo(0, end.scrollHeight)); }).catch(() => undefined);
    void read();
    const timer = going ? setInterval(read, 1500) : undefined;
    return () => { stop.abort(); clearInterval(timer); };
  });
  const made = $derived(run.steps.filter((s) => s.kind === 'define' && (s.state === 'done' || s.state === 'failed')).map((s) => run.nodes.find((n) => n.id === s.node)).filter((n) => n !== undefined));
  const digest = $derived(run.events.filter((e) => ['failed', 'done', 'skipped', 'try-again', 'run-started', 'taken-up', 'hold-asked', 'resumed', 'retry-asked', 'undo-asked', 'undone', 'undo-failed', 'proved', 'not-proved', 'taken-back'].includes(String(e.kind))).slice(-9).reverse());
  const labelOf = (key: string) => { const s = run.steps.find((one) => one.key === key); return s ? `${run.nodes.find((n) => n.id === s.node)?.short ?? ''} ${inside(s.label)}` : 'run'; };
  const WORDS: Record<string, string> = { 'run-started': 'began', 'taken-up': 'taken up after a restart of the server', 'hold-asked': 'held', resumed: 'went on', 'retry-asked': 'to be tried again', 'try-again': 'failed, tried again by itself', 'undo-asked': 'to be taken back', proved: 'proved', 'not-proved': 'not all proved', 'taken-back': 'taken back whole', undone: 'taken back', 'undo-failed': 'could not be taken back' };
</script>

{#if step}
  <Section title={`${node?.name ?? step.host} · ${inside(step.label)}`} aside={facts}>
    <p class="state"><StateMark state={step.state === 'undoing' ? 'working' : (step.state as 'planned')} /> {step.state}{step.attempt > 1 ? `, attempt ${step.attempt}` : ''}{#if told?.total}, {size(told.sent ?? 0)} of {size(told.total)}, {size(told.rate ?? 0)}/s, {span(((told.total ?? 0) - (told.sent ?? 0)) / Math.max(1, told.rate ?? 1))} left{/if}{#if told?.tries}, asked {told.tries === 1 ? 'once' : `${told.tries} times`}; gives up in {span(told.left_s ?? 0)}{/if}</p>
    {#if step.message}<p class="message" class:bad={step.state === 'failed'}>{step.message}</p>{/if}
    {#if step.state === 'failed' && run.state !== 'undoing'}
      <div class="acts"><Button onclick={() => onwish('retry', { steps: [step.key] })}>Retry</Button><Button onclick={() => { skipping = !skipping; }}>Skip …</Button></div>
      {#if skipping}<form class="acts" onsubmit={(e) => { e.preventDefault(); onwish('skip', { steps: [step.key], reason }); skipping = false; }}><input bind:value={reason} placeholder="Why may it be skipped?" aria-label="Reason" required /><Button type="submit">Skip it</Button></form>{/if}
    {/if}
    <div class="transcript mono" role="log" aria-label="Transcript">
      {#each entries.slice(-14) as e (e.id)}
        <button class="command" onclick={() => { open = open === e.id ? null : e.id; }} title={`${e.target}, ${clock(e.at)} · ${span(e.seconds)}`}><i>{e.target === step.host ? '$' : '›'}</i>{open === e.id ? e.command : e.command.split('\n')[0]?.replace(/^LC_ALL=C timeout -k 2 \d+ /, '').replace('virsh -q -c qemu:///system', 'virsh')}</button>
        {#if e.answer}<pre class:bad={e.status !== 0 && step.state === 'failed'} class:whole={open === e.id}>{open === e.id ? e.answer : e.answer.split('\n').slice(0, 3).join('\n')}</pre>{/if}
      {:else}<p class="quiet">Nothing was sent for this step yet.</p>{/each}
    </div>
  </Section>
  {#if node}
    <Section title="Console" aside={node.name}>
      <pre class="console mono" bind:this={end}>{consoleText || consoleTrouble || 'Nothing on the serial console yet.'}</pre>
    </Section>
  {/if}
{:else}<p class="quiet">Choose a bar to see its commands and answers.</p>{/if}

<Section title="What happened">
  <ul>{#each digest as e (e.id)}<li title={utc(Number(e.at))}><span class="mono">{clock(Number(e.at))}</span><span class:bad={e.kind === 'failed'}>{labelOf(String(e.step))}{e.step ? ': ' : ' '}{WORDS[String(e.kind)] ?? e.kind}</span></li>{/each}</ul>
</Section>
<div class="acts">
  <a href={`/api/runs/${run.id}/acceptance.html`} hidden={!run.proofs.length} download>Report</a>
  {#if run.state !== 'undone' && run.state !== 'undoing'}<Button kind="danger" onclick={onundo}>Take back what this run made …</Button>{/if}
  {#if made.length && run.state === 'undone'}<span class="quiet">taken back</span>{/if}
</div>

<style>
  .state { font-size: var(--text-s); color: var(--soft); margin-bottom: 4px; }
  .message { font-size: var(--text-s); margin-bottom: 6px; } .bad { color: var(--blocker); }
  .acts { display: flex; gap: 8px; margin: 6px 0 8px; align-items: center; } .acts input { flex: 1; min-width: 0; border: 1px solid var(--strong-line); background: var(--surface); padding: 4px 8px; border-radius: var(--radius); }
  .transcript { display: flex; flex-direction: column; font-size: 11.5px; max-height: 216px; overflow: auto; }
  .command { border: 0; background: none; text-align: left; padding: 3px 0 1px 15px; cursor: pointer; font: inherit; position: relative; overflow-wrap: anywhere; white-space: pre-wrap; } .command i { position: absolute; left: 0; color: var(--accent); font-style: normal; }
  pre { margin: 0; white-space: pre-wrap; overflow-wrap: anywhere; }
  .transcript pre { color: var(--muted); padding-left: 15px; font: inherit; } .transcript pre:not(.whole) { max-height: 48px; overflow: hidden; } .transcript pre.bad { color: var(--blocker); }
  .console { background: var(--sunk); border: 1px solid var(--line); padding: 8px 10px; font-size: 11px; height: 132px; overflow: auto; }
  ul { list-style: none; margin: 0; padding: 0; } li { display: grid; grid-template-columns: 66px 1fr; font-size: var(--text-s); color: var(--soft); } li .mono { color: var(--muted); }
</style>
