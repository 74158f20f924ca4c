<script lang="ts">
  /** One run of groundwork: its steps by host, and the commands and answers of the chosen one. */
  import { get, send } from '../../lib/api/client';
  import type { Entry, GroundRun } from '../../lib/api/types';
  import { clock, count, span, utc, zone } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import HeadBar from '../../lib/ui/HeadBar.svelte';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import Section from '../ledger/Section.svelte';

  interface Props {
    id: string;
  }
  let { id }: Props = $props();
  let run = $state.raw<GroundRun | null>(null),
    entries = $state.raw<Entry[]>([]),
    asking = $state(false),
    skipping = $state(false),
    reason = $state('');
  let live = $derived(
    !run || ['running', 'trouble', 'held', 'proving', 'undoing'].includes(run.state),
  );
  let step = $derived(
    run?.steps.find((s) => s.key === router.query.get('step')) ??
      run?.steps.find((s) => s.state === 'failed') ??
      run?.steps.find((s) => s.state === 'working') ??
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
  let done = $derived(run?.steps.filter((s) => ['done', 'skipped'].includes(s.state)).length ?? 0);
  let failed = $derived(run?.steps.some((s) => s.state === 'failed') ?? false);
  /** How a step stands, in a few words. */
  function told(one: NonNullable<typeof run>['steps'][number]): string {
    if (one.message || one.state !== 'done') return one.message || one.state;
    if (!one.ended_at || !one.started_at) return 'done';
    return `done, ${span(Math.max(1, one.ended_at - one.started_at))}`;
  }
  const mark = (state: string) => (state === 'undoing' ? 'working' : state) as 'planned';
</script>

{#if run}
  {@const { state, hosts } = run}
  <div class="page">
    <HeadBar>
      <p class="crumb">
        <a href="/estate">Estate</a> · host preparation <span class="mono">{run.id}</span>
      </p>
      <h1>{run.sentence}</h1>
      <p class="quiet" title={utc(run.started_at)}>
        started {clock(run.started_at)}
        {zone()}{run.ended_at ? `, took ${span(Math.max(1, run.ended_at - run.started_at))}` : ''} ·
        {count(run.hosts.length, 'host')}
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
        {#if !['undone', 'undoing', 'running'].includes(state)}{#if asking}<Button
              kind="danger"
              onclick={() => void request('undo')}
              >Roll back on {count(hosts.length, 'host')}</Button
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
        {#each run.hosts as host (host)}<section>
            <h2><a href={`/estate/hosts/${host}`}>{host}</a></h2>
            <ol>
              {#each run.steps.filter((s) => s.host === host) as s (s.key)}<li
                  class:chosen={s.key === step?.key}
                >
                  <button
                    onclick={() =>
                      router.go(`/estate/groundwork/${id}?step=${encodeURIComponent(s.key)}`, true)}
                    ><StateMark state={mark(s.state)} /><span>{s.label}</span><span
                      class="quiet said"
                      class:bad={s.state === 'failed'}>{told(s)}</span
                    ></button
                  >
                </li>{/each}
            </ol>
          </section>{/each}
      </div>
      <aside aria-label="Ledger">
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
                  {live ? 'No commands sent yet.' : 'No change was needed.'}
                </p>{/each}
            </div>
          </Section>{/if}
      </aside>
    </div>
  </div>
{/if}

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
    border: 1px solid var(--strong-line);
    background: var(--surface);
    padding: 4px 8px;
    border-radius: var(--radius);
  }
</style>
