<script lang="ts">
  /** One run of groundwork: its steps by host, and the commands and answers of the chosen one. */
  import { get, send } from '../../lib/api/client';
  import type { Entry, EstateView, GroundRun, Preparation as Work } from '../../lib/api/types';
  import { clock, count, span, utc, zone } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import HeadBar from '../../lib/ui/HeadBar.svelte';
  import Later from '../../lib/ui/Later.svelte';
  import Section from '../ledger/Section.svelte';
  import { parts } from './parts';
  import PreparationSteps, { type Told } from './PreparationSteps.svelte';

  interface Props {
    id: string;
  }
  let { id }: Props = $props();
  let run = $state.raw<GroundRun | null>(null),
    entries = $state.raw<Entry[]>([]),
    progress = $state.raw<Record<string, Told>>({}),
    repeating = $state.raw<{ estate: EstateView; work: Work } | null>(null),
    asking = $state(false),
    skipping = $state(false),
    reason = $state('');
  let live = $derived(
    !run || ['running', 'trouble', 'held', 'proving', 'undoing'].includes(run.state),
  );
  let step = $derived(
    run?.steps.find((s) => s.key === router.query.get('step')) ??
      run?.steps.find((s) => s.state === 'failed') ??
      run?.steps.find((s) => ['working', 'waiting'].includes(s.state)) ??
      run?.steps[0],
  );
  /** Answers may overtake each other; an older one is not shown over a newer one. */
  function take(found: GroundRun) {
    if (!run || run.id !== found.id || found.last_event >= run.last_event) run = found;
  }
  async function load() {
    try {
      take(await get(`/groundwork/${id}`));
    } catch (error) {
      notices.problem(error);
    }
  }
  $effect(() => {
    void load();
    const source = new EventSource(`/api/runs/${id}/events`);
    let timer = 0;
    source.addEventListener('journal', () => {
      clearTimeout(timer);
      timer = window.setTimeout(() => void load(), 120);
    });
    source.addEventListener('progress', (event) => {
      progress = JSON.parse((event as MessageEvent<string>).data) as Record<string, Told>;
    });
    return () => {
      source.close();
      clearTimeout(timer);
    };
  });
  $effect(() => {
    const key = step?.key;
    void run?.last_event;
    if (key)
      get(`/runs/${id}/transcript?step=${encodeURIComponent(key)}`)
        .then((found) => {
          if (key === step?.key) entries = found;
        })
        .catch(() => undefined);
  });
  async function request(what: string, body: object = {}) {
    asking = false;
    skipping = false;
    try {
      take(await send('POST', `/groundwork/${id}/${what}`, body));
    } catch (error) {
      notices.problem(error);
    }
  }
  async function repeat() {
    try {
      const [estate, work] = await Promise.all([get('/estate'), get(`/groundwork/${id}/work`)]);
      repeating = { estate, work };
    } catch (error) {
      notices.problem(error);
    }
  }
  let done = $derived(run?.steps.filter((s) => ['done', 'skipped'].includes(s.state)).length ?? 0);
  let failed = $derived(run?.steps.some((s) => s.state === 'failed') ?? false);
  /** Bare machines are inspected; all else is done to hosts. */
  let machines = $derived(
    new Set(
      run?.steps
        .filter((s) => ['inspect', 'wipe-drives', 'write-image'].includes(s.kind))
        .map((s) => s.host) ?? [],
    ),
  );
  /** Why a step has no commands: it waits, works on this server, or found things as they were to be. */
  function nothingSent(one: GroundRun['steps'][number]): string {
    if (one.key.endsWith(':unpack')) return 'This step works on the server itself.';
    if (one.key.endsWith(':report')) return 'This step waits for the machine to report.';
    return live ? 'No commands sent yet.' : 'No change was needed.';
  }
  let noun = $derived(machines.size ? 'machine' : 'host');
</script>

{#if run}
  {@const { state, hosts } = run}
  <div class="page">
    <HeadBar>
      <p class="crumb">
        <a href="/estate">Estate</a> · {machines.size ? 'machines' : 'host preparation'}
        <span class="mono">{run.id}</span>
      </p>
      <h1>{run.sentence}</h1>
      <p class="quiet" title={utc(run.started_at)}>
        started {clock(run.started_at)}
        {zone()}{run.ended_at ? `, took ${span(Math.max(1, run.ended_at - run.started_at))}` : ''} ·
        {count(run.hosts.length, noun)}
      </p>
      {#snippet acts()}
        {#if failed && state !== 'undoing'}<Button kind="main" onclick={() => void request('retry')}
            >Retry failed steps</Button
          >{:else if state === 'held'}<Button kind="main" onclick={() => void request('resume')}
            >Resume</Button
          >{:else if state === 'running'}<Button onclick={() => void request('hold')}>Hold</Button
          >{:else if state === 'done'}<a class="fit" href="/estate?see=fitness"
            >Show remaining problems</a
          >{/if}
        {#if state === 'undoing' && failed}<Button kind="main" onclick={() => void request('undo')}
            >Roll back again</Button
          >{/if}
        {#if !live && !machines.size}<Button onclick={() => void repeat()}>Run again …</Button>{/if}
        {#if !['undone', 'undoing', 'running'].includes(state) && !(machines.size && state === 'done')}{#if asking}<Button
              kind="danger"
              onclick={() => void request('undo')}>Roll back on {count(hosts.length, noun)}</Button
            ><Button
              onclick={() => {
                asking = false;
              }}>Cancel</Button
            >{:else}<Button
              onclick={() => {
                asking = true;
              }}>Roll back …</Button
            >{/if}{/if}
      {/snippet}
    </HeadBar>
    <div class="progress" aria-hidden="true">
      <i style:width={`${(100 * done) / Math.max(1, run.steps.length)}%`}></i>
    </div>
    <div class="body">
      <div class="steps">
        <PreparationSteps
          {run}
          chosen={step?.key ?? ''}
          {machines}
          {progress}
          onchoose={(key) =>
            router.go(`/estate/groundwork/${id}?step=${encodeURIComponent(key)}`, true)}
        />
      </div>
      <aside aria-label="Details">
        {#if step}
          <Section
            title={`${step.host} · ${step.label}`}
            aside={step.attempt > 1 ? `attempt ${step.attempt}` : step.state}
          >
            {#if step.message}<p class="message" class:bad={step.state === 'failed'}>
                {step.message}
              </p>{/if}
            {#if step.state === 'failed' && run.state !== 'undoing'}<div class="acts">
                <Button onclick={() => void request('retry', { steps: [step!.key] })}>Retry</Button
                ><Button
                  onclick={() => {
                    skipping = !skipping;
                  }}>Skip …</Button
                >
              </div>
              {#if skipping}<form
                  class="acts"
                  onsubmit={(e) => {
                    e.preventDefault();
                    void request('skip', { steps: [step!.key], reason });
                  }}
                >
                  <input
                    bind:value={reason}
                    placeholder="Reason for skipping"
                    aria-label="Reason"
                    required
                  /><Button type="submit">Skip step</Button>
                </form>{/if}{/if}
            <div class="log mono" role="log" aria-label="Transcript">
              {#each entries as e (e.id)}<p class="command">$ {e.command}</p>
                {#if e.answer}<pre class:bad={e.status !== 0}>{e.answer}</pre>{/if}{:else}<p
                  class="quiet"
                >
                  {nothingSent(step)}
                </p>{/each}
            </div>
          </Section>{/if}
      </aside>
    </div>
  </div>
{/if}
{#if repeating}<Later
    load={parts.prepare}
    estate={repeating.estate}
    remedies={repeating.work.actions}
    kept={repeating.work.care ?? null}
    title={`Run ${id} again`}
    onclose={() => {
      repeating = null;
    }}
  />{/if}

<style>
  .page {
    display: flex;
    flex-direction: column;
    height: 100%;
    padding: 0 20px;
    min-height: 0;
  }
  .fit {
    font-weight: 600;
  }
  .progress {
    height: 3px;
    background: var(--sunk);
  }
  .progress i {
    display: block;
    height: 100%;
    background: var(--ink);
  }
  .body {
    display: grid;
    grid-template-columns: minmax(0, 1fr) minmax(380px, 42%);
    flex: 1;
    min-height: 0;
  }
  .steps {
    overflow: auto;
    padding: 12px 18px 20px 0;
  }
  aside {
    border-left: 1px solid var(--line);
    padding: 12px 0 20px 18px;
    overflow: auto;
    min-width: 0;
  }
  .message {
    font-size: var(--text-s);
    margin-bottom: 8px;
  }
  .log {
    font-size: 11.5px;
  }
  .command {
    overflow-wrap: anywhere;
    white-space: pre-wrap;
    margin-top: 8px;
  }
  pre {
    margin: 2px 0 0;
    padding-left: 12px;
    color: var(--muted);
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    font: inherit;
    max-height: 200px;
    overflow: auto;
  }
  .acts {
    display: flex;
    gap: 8px;
    margin: 4px 0 8px;
  }
  .acts input {
    flex: 1;
  }
</style>
