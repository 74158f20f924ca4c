<script lang="ts">
  import { untrack } from 'svelte';
  import { get } from '../../lib/api/client';
  import type { Edit, Finding, RunView, Sentence } from '../../lib/api/types';
  import { connection } from '../../lib/connection.svelte';
  import { count, moment, zone } from '../../lib/format';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Later from '../../lib/ui/Later.svelte';
  import { parts } from './parts';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import PlanLedger from '../ledger/PlanLedger.svelte';
  import AcceptanceLedger from '../ledger/AcceptanceLedger.svelte';
  import RunLedger from '../ledger/RunLedger.svelte';
  import AcceptanceSheet from '../sheet/AcceptanceSheet.svelte';
  import Sheet from '../sheet/Sheet.svelte';
  import Timeline from '../sheet/Timeline.svelte';
  import Wall from '../wall/Wall.svelte';
  import { nodeOf, READINGS, type Part, type Place, type Reading } from '../wall/wall';
  import { Rollout } from './rollout.svelte';
  import SentenceBar from './SentenceBar.svelte';
  import { nodeStates } from './states';
  import TitleBlock from './TitleBlock.svelte';

  interface Props {
    id: string;
    reading: 'plan' | 'run' | 'acceptance';
  }
  let { id, reading }: Props = $props();
  // svelte-ignore state_referenced_locally
  const rollout = new Rollout(id);
  let filter = $state(''),
    licence = $state(false),
    text = $state(false),
    undoing = $state(false),
    name = $state('');
  let secret = $state<{ node: string; column: string } | null>(null);
  let now = $state(Date.now() / 1000);
  let lost = $state<string[]>([]),
    tables = $state(false);
  const ASKS: [string, string][] = [
    ['', 'overview'],
    ['sizing', 'sizing'],
    ['places', 'placement'],
    ['losses', 'failure impact'],
    ['time', 'time'],
  ];
  let ask = $derived(reading === 'plan' ? (router.query.get('ask') ?? '') : '');
  let wall = $derived(
    READINGS.find(([known]) => known === router.query.get('wall'))?.[0] ?? 'memory',
  );
  const keep = (question = ask, shown: Reading = wall) =>
    (question ? `&ask=${question}` : '') + (shown === 'memory' ? '' : `&wall=${shown}`);
  let tall = $state(innerHeight),
    shared = $state.raw<string[]>([]);
  let field: HTMLInputElement | undefined = $state();
  let plan = $derived(rollout.plan);
  let run = $derived(rollout.run);
  let states = $derived(run ? nodeStates(run, rollout.progress) : new Map());
  let picked = $derived({
    node: router.query.get('node') ?? plan?.nodes[0]?.id ?? '',
    column: router.query.get('column') ?? 'name',
  });
  let step = $derived.by(() => {
    if (!run) return undefined;
    const asked = router.query.get('step'),
      node = router.query.get('node');
    const own = run.steps.filter((s) => !node || s.node === node);
    const rank = (s: string) => ['failed', 'waiting', 'working', 'undoing'].indexOf(s);
    return (
      run.steps.find((s) => s.key === asked) ??
      own.filter((s) => rank(s.state) >= 0).sort((a, b) => rank(a.state) - rank(b.state))[0] ??
      run.steps.filter((s) => rank(s.state) >= 0)[0] ??
      own.filter((s) => s.state === 'done').at(-1) ??
      own[0]
    );
  });
  let proof = $derived(
    run?.proofs.find((v) => `${v.node}/${v.proof}` === router.query.get('proof')) ??
      run?.proofs.find((v) => !v.passed) ??
      run?.proofs[0],
  );
  let trouble = $derived(
    new Set(plan?.findings.filter((f) => f.severity === 'blocker' && f.node).map((f) => f.node)),
  );
  let standing: Sentence | null = $derived(
    plan && run && run.state !== 'undone' && run.plan === plan.id
      ? {
          before: 'This plan has a run: ',
          strong: run.words.plans,
          after: '. Changes made here are for the next run.',
          below: plan.sentence.below,
          action: { kind: 'look', label: 'Show run', node: '', column: '', edit: null },
        }
      : null,
  );
  /** What stands below the sentence of a run: when it began, and how long it takes. */
  const since = (r: RunView, more: string) =>
    [
      `started ${moment(r.started_at)} ${zone()}`,
      r.undone_at
        ? `rolled back ${moment(r.undone_at)}`
        : r.ended_at
          ? `ended ${moment(r.ended_at)}`
          : '',
      more,
    ]
      .filter(Boolean)
      .join(' · ');
  let sentence = $derived.by(() => {
    if (reading === 'plan') return standing ?? plan?.sentence;
    if (!run) return undefined;
    if (reading === 'run') return { ...run.sentence, below: since(run, run.sentence.below) };
    return {
      ...run.proof_sentence,
      below: run.proved_at ? `checked ${moment(run.proved_at)} ${zone()}` : '',
    };
  });
  $effect(() => {
    document.title = `${run && reading !== 'plan' ? `${run.words.tab} – ` : ''}${plan?.title || id} · Nimble Stone`;
  });
  let label = $derived(secret ? plan?.columns.find((c) => c.id === secret?.column) : undefined);
  let wallHeight = $derived(
    Math.round(
      Math.max(tall * 0.27, Math.min(tall * 0.5, tall - 320 - (plan?.nodes.length ?? 3) * 30)),
    ),
  );

  $effect(() => {
    untrack(() => void rollout.load(router.query.get('run') ?? undefined));
    return () => rollout.dispose();
  });
  $effect(() => {
    void get('/values')
      .then((found) => {
        shared = found.map((one) => one.name);
      })
      .catch(() => undefined);
  });
  $effect(() => {
    if (run?.id) untrack(() => rollout.watch());
  });
  $effect(() => {
    const timer = setInterval(() => {
      now = rollout.now();
    }, 500);
    return () => clearInterval(timer);
  });

  const base = (r = reading) => `/plans/${id}${r === 'plan' ? '' : `/${r}`}`;
  function select(node: string, column = picked.column) {
    router.go(
      `${base()}?node=${encodeURIComponent(node)}&column=${encodeURIComponent(column)}${keep()}`,
      true,
    );
  }
  function question(name: string) {
    lost = [];
    router.go(
      `${base()}?node=${encodeURIComponent(picked.node)}&column=${encodeURIComponent(picked.column)}${keep(name)}`,
      true,
    );
  }
  function showWall(shown: Reading) {
    router.go(
      `${base()}?node=${encodeURIComponent(picked.node)}&column=${encodeURIComponent(picked.column)}${keep(ask, shown)}`,
      true,
    );
  }
  function pick(query: string) {
    router.go(`${base()}?${query}`, true);
  }
  function fix(finding: Finding) {
    if (finding.code === 'licence') licence = true;
    else if (finding.code.startsWith('package')) router.go('/packages');
    else if (finding.code.startsWith('certificate')) secret = { node: '', column: finding.column };
    else if (
      finding.code.startsWith('secret') ||
      (finding.code === 'unanswered' &&
        plan?.columns.find((c) => c.id === finding.column)?.kind === 'secret')
    )
      secret = { node: '', column: finding.column };
    else if (finding.code === 'bay-missing') document.getElementById('bay')?.focus();
    else if (finding.code === 'host-unread') void rollout.check();
    else select(finding.code === 'unanswered' ? '*' : finding.node, finding.column);
  }
  async function act() {
    const action = sentence?.action;
    if (!action || !plan) return;
    if (action.kind === 'run') {
      if (await rollout.start()) router.go(base('run'));
    } else if (action.kind === 'remedy' && action.edit) await rollout.edit([action.edit]);
    else if (action.kind === 'licence') licence = true;
    else if (action.kind === 'package') router.go('/packages');
    else if (action.kind === 'cell') {
      const first = plan.findings[0];
      if (first) fix(first);
    } else if (action.kind === 'look') router.go(base('run'));
    else if (action.kind === 'acceptance') router.go(base('acceptance'));
    else if (action.kind !== 'none') await rollout.request(action.kind);
  }
  /** A stone laid elsewhere: the node on another host, or what lies on a datastore on another one (with its node, where that one is local to another host). */
  function moved(part: Part, to: Place): Edit[] {
    const node = nodeOf(part),
      set = (column: string, value: string | null): Edit => ({
        path: ['nodes', node, column],
        value,
      });
    if (!to.store) return [set('host', to.name), set('datastore', null)];
    return [
      ...(to.on && plan?.nodes.find((n) => n.id === node)?.host !== to.on
        ? [set('host', to.on)]
        : []),
      set(part.column ?? 'datastore', to.store),
    ];
  }
  function keys(event: KeyboardEvent) {
    const target = event.target as HTMLElement;
    if (target.closest('input, textarea, select, dialog')) return;
    if (event.key === '/') {
      field?.focus();
      event.preventDefault();
    }
    if (reading === 'run' && run && !event.ctrlKey && !event.metaKey) {
      if (event.key === 'h' && run.state === 'running') void rollout.request('hold');
      if (event.key === 'g' && run.state === 'held') void rollout.request('resume');
      if (event.key === 'r' && run.state !== 'held' && run.steps.some((s) => s.state === 'failed'))
        void rollout.request('retry');
    }
  }
  let made = $derived(
    run
      ? run.nodes.filter((n) =>
          run.steps.some((s) => s.node === n.id && s.kind === 'define' && s.state !== 'planned'),
        )
      : [],
  );
  let places = $derived([...new Set(made.map((n) => n.host))].join(', '));
</script>

<svelte:window onkeydown={keys} bind:innerHeight={tall} />

{#if plan && sentence && (reading === 'plan' || run)}
  <div class="page">
    <SentenceBar
      {sentence}
      busy={rollout.busy}
      doing={rollout.unsent && connection.lostAt !== null
        ? `${count(rollout.unsent, 'edit')} to send`
        : rollout.reading}
      onact={act}
    >
      {#snippet more()}
        {#if reading === 'plan' && !standing}<Button
            disabled={rollout.busy}
            onclick={() => rollout.check()}
            title="Refresh the hosts and test whether planned addresses are in use"
            >Check against hosts</Button
          >{/if}
        {#if reading === 'run' && run?.state === 'trouble'}<Button
            onclick={() => rollout.request('hold')}>Hold</Button
          >{/if}
      {/snippet}
    </SentenceBar>
    <div class="body">
      <div class="left">
        {#if reading === 'plan'}<TitleBlock
            {plan}
            {shared}
            onedit={(e) => rollout.edit(e)}
            ontry={(e) => rollout.attempt(e)}
            onlicence={() => {
              licence = true;
            }}
            ontext={() => {
              text = true;
            }}
          />{:else}<div class="pad"></div>{/if}
        {#if reading === 'plan'}
          <Wall
            hosts={plan.hosts}
            nodes={plan.nodes}
            selected={picked.node}
            {filter}
            {trouble}
            {lost}
            claims={plan.claims}
            reading={wall}
            lines={plan.stores}
            height={wallHeight}
            onselect={select}
            onhost={(host) => {
              if (ask === 'losses')
                lost = lost.includes(host)
                  ? lost.filter((h) => h !== host)
                  : [...lost, host].slice(-2);
            }}
            onover={(part, to) => rollout.attempt(to ? moved(part, to) : null)}
            onmove={(part, to) => {
              void rollout.edit(moved(part, to));
            }}
          />
        {:else if run}
          <Wall
            hosts={run.hosts}
            nodes={run.nodes}
            {states}
            selected={reading === 'run' ? (step?.node ?? '') : (proof?.node ?? '')}
            {filter}
            height={wallHeight}
            onselect={(n: string) =>
              pick(reading === 'run' ? `node=${n}` : `proof=${n}/${proof?.proof ?? 'running'}`)}
          />
        {/if}
        <div class="tools">
          <input
            bind:this={field}
            bind:value={filter}
            placeholder="Filter by typing  /"
            aria-label="Filter"
            onkeydown={(e) => {
              if (e.key === 'Escape') {
                filter = '';
                field?.blur();
              }
            }}
          />
          {#if reading === 'plan'}
            <span class="quiet" role="status"
              >{#if rollout.trying}<b>Preview.</b> Esc cancels, Enter applies.{:else if picked.node !== '*' && plan.nodes.find((n) => n.id === picked.node)?.cells[picked.column]}{@const cell =
                  plan.nodes.find((n) => n.id === picked.node)?.cells[
                    picked.column
                  ]}{plan.columns.find((c) => c.id === picked.column)?.label}: {(
                  {
                    node: 'set here for this node',
                    group: 'from its role',
                    plan: 'from the plan, for every node',
                    pool: 'from the pool or its network',
                    computed: 'computed',
                    kit: 'the kit’s default',
                    package: 'the package’s default',
                    shared: 'from shared values the plan includes',
                    unused: 'this node has no such value',
                    none: 'not answered',
                  } as Record<string, string>
                )[cell?.origin ?? 'none']}{cell?.origin === 'node'
                  ? ' · Delete puts it back'
                  : ''}{/if}</span
            >
            <span class="right quiet"
              ><select
                aria-label="What the wall shows"
                value={wall}
                onchange={(e) => showWall(e.currentTarget.value as Reading)}
                >{#each READINGS as [id, label] (id)}<option value={id}>wall: {label}</option
                  >{/each}</select
              ><button
                onclick={() => {
                  tables = true;
                }}>Tables</button
              ><button disabled={!rollout.canUndo} onclick={() => rollout.undo()}>Undo</button
              ><button disabled={!rollout.canRedo} onclick={() => rollout.redo()}>Redo</button> Ctrl+D
              fills down and counts up</span
            >
          {:else if reading === 'run'}<span class="right quiet"
              >H hold · G resume · R retry · ? shortcuts</span
            >{/if}
        </div>
        {#if reading === 'plan'}
          <Sheet
            {plan}
            {filter}
            selected={picked}
            busy={rollout.busy}
            unsent={rollout.unsentEdits}
            onselect={select}
            onedit={(e) => rollout.edit(e)}
            ontry={(e) => rollout.attempt(e)}
            onsecret={(node, column) => {
              secret = { node, column };
            }}
            onundo={() => rollout.undo()}
            onredo={() => rollout.redo()}
          />
        {:else if run && reading === 'run'}
          <Timeline
            {run}
            {now}
            {filter}
            {states}
            selected={step?.key ?? ''}
            progress={rollout.progress}
            onstep={(key) => pick(`step=${encodeURIComponent(key)}`)}
            onnode={(n) => pick(`node=${n}`)}
          />
        {:else if run}
          <AcceptanceSheet
            {run}
            {filter}
            selected={proof ? `${proof.node}/${proof.proof}` : ''}
            onproof={(key) => pick(`proof=${encodeURIComponent(key)}`)}
          />
        {/if}
      </div>
      <aside aria-label="Details">
        {#if reading === 'plan'}<nav class="asks" aria-label="Details of">
            {#each ASKS as [id, label] (id)}<button
                aria-current={ask === id ? 'true' : undefined}
                onclick={() => question(id)}>{label}</button
              >{/each}
          </nav>{/if}
        {#if reading === 'plan' && ask === 'sizing'}<Later
            load={parts.sizing}
            {plan}
            busy={rollout.busy}
            onedit={(e) => rollout.edit(e)}
          />
        {:else if reading === 'plan' && ask === 'places'}<Later
            load={parts.places}
            {plan}
            node={picked.node}
            busy={rollout.busy}
            onedit={(e) => rollout.edit(e)}
            ontry={(e) => rollout.attempt(e)}
            onselect={(n) => select(n, 'host')}
          />
        {:else if reading === 'plan' && ask === 'losses'}<Later
            load={parts.losses}
            {plan}
            {lost}
            onlose={(hosts) => {
              lost = hosts;
            }}
          />
        {:else if reading === 'plan' && ask === 'time'}<Later load={parts.time} {plan} />
        {:else if reading === 'plan'}<PlanLedger
            {plan}
            onedit={(e) => rollout.edit(e)}
            onselect={(n, c) => select(n || '*', c)}
            onfix={fix}
          />
        {:else if run && reading === 'run'}<RunLedger
            {run}
            {step}
            {now}
            progress={rollout.progress}
            onrequest={(w, b) => rollout.request(w, b)}
            onundo={() => {
              undoing = true;
              name = '';
            }}
          />
        {:else if run}<AcceptanceLedger
            {run}
            {proof}
            onproof={(key) => pick(`proof=${encodeURIComponent(key)}`)}
          />{/if}
      </aside>
    </div>
  </div>
{:else if plan && !run && !rollout.busy}
  <div class="empty">
    <h1>{reading === 'run' ? 'No run yet.' : 'No acceptance results yet.'}</h1>
    <p class="quiet">Start a run from the plan. Acceptance checks run at its end.</p>
    <a href={base('plan')}>Back to the plan</a>
  </div>
{:else if !rollout.busy}<div class="empty">
    <h1>This plan cannot be shown.</h1>
    <a href="/plans">All plans</a>
  </div>
{:else}<div class="empty quiet">{plan ? 'Loading run …' : 'Calculating plan …'}</div>{/if}

{#if licence && plan}<Later
    load={parts.licence}
    text={plan.licence_text}
    product={[plan.package, ...plan.roles.filter((r) => r.count && r.package).map((r) => r.package)]
      .map((one) => one?.title)
      .join(' and ')}
    onaccept={async (by) => {
      if (await rollout.licence(by)) licence = false;
    }}
    onclose={() => {
      licence = false;
    }}
  />{/if}
{#if tables && plan}<Later
    load={parts.tables}
    {plan}
    onedit={(e) => rollout.edit(e)}
    onclose={() => {
      tables = false;
    }}
  />{/if}
{#if rollout.clash && plan}<Later
    load={parts.clash}
    {plan}
    clash={rollout.clash}
    onsettle={(mine) => rollout.settle(mine)}
  />{/if}
{#if text && plan}<Later
    load={parts.planText}
    {id}
    version={plan.version}
    onsaved={() => {
      text = false;
      void rollout.load();
    }}
    onclose={() => {
      text = false;
    }}
  />{/if}
{#if secret && label?.kind === 'certificate'}<Later
    load={parts.pairBox}
    label={label.label}
    plan={id}
    column={secret.column}
    node={secret.node}
    onkeep={async (certificate, key) => {
      if (!secret) return null;
      const wrong = await rollout.pair(secret.node, secret.column, certificate, key);
      if (!wrong) secret = null;
      return wrong;
    }}
    onclose={() => {
      secret = null;
    }}
  />
{:else if secret && label}<Later
    load={parts.secretBox}
    label={label.label}
    limits={label.limits}
    onmake={() => rollout.make(secret?.column ?? '')}
    onkeep={async (value) => {
      if (secret && (await rollout.secret(secret.node, secret.column, value))) secret = null;
    }}
    onclose={() => {
      secret = null;
    }}
  />{/if}
{#if undoing && run}
  <Dialog
    title="Roll back"
    onclose={() => {
      undoing = false;
    }}
  >
    <p>
      {made.length
        ? `Deletes ${count(made.length, 'VM')} on ${places} with ${made.length === 1 ? 'its' : 'their'} disks and config ISOs.`
        : 'Deletes the disks and config ISOs this run has sent so far.'} Only what is tagged with run
      <span class="mono">{run.id}</span> is touched. This cannot be undone.
    </p>
    <form
      onsubmit={(e) => {
        e.preventDefault();
        undoing = false;
        void rollout.request('undo');
      }}
    >
      <label
        >Type the plan’s name to confirm: <b>{run.plan}</b><input
          bind:value={name}
          aria-label="Plan’s name"
          autocomplete="off"
        /></label
      >
      <div class="acts">
        <Button kind="danger" type="submit" disabled={name !== run.plan}
          >{made.length ? `Delete ${count(made.length, 'VM')}` : 'Delete what was sent'}</Button
        ><Button
          onclick={() => {
            undoing = false;
          }}>Cancel</Button
        >
      </div>
    </form>
  </Dialog>
{/if}

<style>
  .page {
    display: flex;
    flex-direction: column;
    height: 100%;
    padding: 0 20px;
    min-height: 0;
  }
  .body {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 316px;
    flex: 1;
    min-height: 0;
  }
  .left {
    display: flex;
    flex-direction: column;
    min-width: 0;
    min-height: 0;
    padding-right: 18px;
  }
  aside {
    border-left: 1px solid var(--line);
    padding: 10px 0 20px 18px;
    overflow: auto;
    min-height: 0;
  }
  .asks {
    display: flex;
    gap: 13px;
    border-bottom: 1px solid var(--line);
    margin-bottom: 10px;
    font-size: var(--text-s);
  }
  .asks button {
    border: 0;
    background: none;
    padding: 3px 0 5px;
    color: var(--soft);
    cursor: pointer;
    border-bottom: 2px solid transparent;
  }
  .asks button:hover {
    color: var(--accent);
  }
  .asks [aria-current] {
    color: var(--ink);
    font-weight: 600;
    border-color: var(--ink);
  }
  .tools select {
    border: 0;
    border-bottom: 1px solid var(--line);
    background: none;
    color: var(--soft);
    font-size: var(--text-s);
    padding: 1px 2px;
    margin-right: 6px;
  }
  .pad {
    height: 10px;
  }
  .tools {
    display: flex;
    gap: 16px;
    align-items: center;
    padding: 4px 0;
    font-size: var(--text-s);
    min-height: 33px;
  }
  .tools input {
    border: 0;
    border-bottom: 1px solid var(--strong-line);
    background: none;
    padding: 2px 4px;
    width: 150px;
  }
  .tools .right {
    margin-left: auto;
    white-space: nowrap;
  }
  .tools > span {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    min-width: 0;
  }
  .tools button {
    border: 0;
    background: none;
    color: var(--accent);
    cursor: pointer;
    padding: 0 6px;
  }
  .tools button:disabled {
    color: var(--muted);
    cursor: default;
  }
  .empty {
    padding: 60px 20px;
    display: flex;
    flex-direction: column;
    gap: 8px;
  }
  .empty h1 {
    font-size: var(--text-l);
  }
  label input {
    display: block;
    margin: 6px 0 12px;
    border: 1px solid var(--strong-line);
    background: var(--paper);
    padding: 6px 10px;
    border-radius: var(--radius);
    width: 100%;
  }
  form {
    margin-top: 12px;
  }
  .acts {
    display: flex;
    gap: 10px;
  }
  b {
    font-weight: 600;
  }
</style>
