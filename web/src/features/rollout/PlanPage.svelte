<script lang="ts">
  /** A plan: its sentence, its nodes on the wall and in the sheet, and what is to be known about it. */
  import { get } from '../../lib/api/client';
  import type { Edit, Finding, PlanView, RunView, Sentence } from '../../lib/api/types';
  import { connection } from '../../lib/connection.svelte';
  import { openFindings } from '../../lib/findings.svelte';
  import { count } from '../../lib/format';
  import { router } from '../../lib/router.svelte';
  import { setTab } from '../../lib/tab.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Sheet from '../sheet/Sheet.svelte';
  import Wall from '../wall/Wall.svelte';
  import type { StoneState } from '../wall/WallStone.svelte';
  import Frame from '../../lib/ui/Frame.svelte';
  import { leavingMachines, moved } from './moves';
  import { mendingOf, notInspected, type Place } from './place';
  import PlanDetails from './PlanDetails.svelte';
  import Later from '../../lib/ui/Later.svelte';
  import { parts } from './parts';
  import type { Open } from './PlanDialogs.svelte';
  import PlanTools from './PlanTools.svelte';
  import type { Rollout } from './rollout.svelte';
  import SentenceBar from './SentenceBar.svelte';
  import TitleBlock from './TitleBlock.svelte';

  interface Props {
    rollout: Rollout;
    plan: PlanView;
    run: RunView | null;
    place: Place;
    wallHeight: number;
  }
  let { rollout, plan, run, place, wallHeight }: Props = $props();
  let filter = $state(''),
    lost = $state<string[]>([]),
    open = $state.raw<Open>(null),
    columns = $state(false),
    shared = $state.raw<string[]>([]);
  let sheet: Sheet | undefined = $state();
  let node = $derived(place.node || (plan.nodes[0]?.id ?? ''));
  let trouble = $derived(
    new Set(plan.findings.filter((f) => f.severity === 'blocker' && f.node).map((f) => f.node)),
  );
  let changing = $derived.by(() => {
    const { adds, removes, resizes, grows, upgrades, moves, alters } = plan.changes ?? {};
    const upgraded = upgrades?.some((one) => one.way);
    return upgraded || [adds, removes, resizes, grows, moves, alters].some((one) => one?.length);
  });
  let altered = $derived(
    new Set(
      [
        ...(plan.changes?.resizes ?? []),
        ...(plan.changes?.grows ?? []),
        ...(plan.changes?.moves ?? []),
        ...(plan.changes?.alters ?? []),
        ...(plan.changes?.upgrades ?? []).filter((one) => one.way),
      ].map((one) => one.node),
    ),
  );
  let added = $derived(
    new Set((plan.changes?.adds ?? []).map((one) => one.node).filter((id) => !altered.has(id))),
  );
  const stateOf = (id: string): StoneState => {
    if (added.has(id)) return { mark: 'planned', share: 0, text: 'to be added' };
    const next = altered.has(id) ? 'to be changed' : '';
    if (plan.changes?.differing?.includes(id)) {
      const text = ['differs from what was built', next].filter(Boolean).join(', ');
      return { mark: 'failed', share: 1, text };
    }
    if (next) return { mark: 'waiting', share: 1, text: next };
    return { mark: 'done', share: 1, text: 'deployed' };
  };
  /** Of a deployed plan: what is built, and what is only planned. */
  let states = $derived(
    plan.changes ? new Map(plan.nodes.map((one) => [one.id, stateOf(one.id)])) : undefined,
  );
  let built: Sentence | null = $derived(
    run && run.state !== 'undone' && run.plan === plan.id && !changing
      ? {
          before: 'This plan has a run: ',
          strong: run.words.plans,
          after: '. Changes made here are for the next run.',
          below: plan.sentence.below,
          action: { kind: 'look', label: 'Show run', node: '', column: '', edit: null },
        }
      : null,
  );
  let sentence = $derived(built ?? plan.sentence);
  $effect(() => {
    setTab(`${plan.title || plan.id} · Nimble Stone`, trouble.size ? 'trouble' : 'plain');
  });
  $effect(() => {
    openFindings.list = plan.findings.map((one) => ({
      kind: one.severity,
      text: one.message,
      href: `${place.base()}?node=${encodeURIComponent(one.node || '*')}&column=${encodeURIComponent(one.column)}`,
    }));
    return () => {
      openFindings.list = [];
    };
  });
  $effect(() => {
    get('/values')
      .then((found) => {
        shared = found.map((one) => one.name);
      })
      .catch(() => undefined); // without them the plan works; the silence is said elsewhere
  });
  const select = (to: string, column = place.column) => place.go({ node: to, column });

  function fix(finding: Finding) {
    switch (mendingOf(finding, plan)) {
      case 'licence':
        open = { kind: 'licence' };
        break;
      case 'packages':
        router.go('/packages');
        break;
      case 'secret':
        open = { kind: 'kept', node: '', column: finding.column };
        break;
      case 'bay':
        document.getElementById('bay')?.focus();
        break;
      case 'inspect':
        router.go(`/estate?inspect=${notInspected(plan).join(',')}`);
        break;
      case 'machine':
        router.go(`/estate/machines/${encodeURIComponent(finding.host)}`);
        break;
      case 'adopt':
        open = { kind: 'adopt' };
        break;
      case 'check':
        void rollout.check();
        break;
      case 'cell':
        select(finding.node || '*', finding.column);
        void sheet?.editCell();
    }
  }
  async function act() {
    const { action } = sentence;
    if (action.kind === 'run' && plan.changes?.removes?.length)
      open = { kind: 'removes', node: '' };
    else if (action.kind === 'run') {
      if (await rollout.start()) router.go(place.base('run'));
    } else if (action.kind === 'remedy' && action.edit) await rollout.edit([action.edit]);
    else if (action.kind === 'licence') open = { kind: 'licence' };
    else if (action.kind === 'package') router.go('/packages');
    else if (action.kind === 'cell' && plan.findings[0]) fix(plan.findings[0]);
    else if (action.kind === 'look') router.go(place.base('run'));
    else if (action.kind === 'acceptance') router.go(place.base('acceptance'));
  }
  function lose(host: string) {
    if (place.question !== 'losses') return;
    lost = lost.includes(host) ? lost.filter((one) => one !== host) : [...lost, host].slice(-2);
  }
  const edit = (edits: Edit[]) => void rollout.edit(edits);
  let doing = $derived(
    rollout.unsent && connection.lostAt !== null
      ? `${count(rollout.unsent, 'edit')} to send`
      : rollout.reading,
  );
</script>

<Frame>
  {#snippet bar()}<SentenceBar {sentence} busy={rollout.busy} {doing} onact={act}>
      {#snippet more()}<Button
          disabled={rollout.busy}
          onclick={() => rollout.check()}
          title="Refresh the hosts and test whether planned addresses are in use"
          >Check against hosts</Button
        >{/snippet}
    </SentenceBar>{/snippet}
  {#snippet left()}
    <TitleBlock
      {plan}
      {shared}
      onedit={edit}
      ontry={(e) => rollout.attempt(e)}
      onlicence={() => {
        open = { kind: 'licence' };
      }}
      ontext={() => {
        open = { kind: 'text' };
      }}
    />
    <Wall
      hosts={plan.hosts}
      nodes={plan.nodes}
      {states}
      selected={node}
      {filter}
      {trouble}
      {lost}
      claims={[...plan.claims, ...leavingMachines(plan)]}
      reading={place.wall}
      lines={plan.stores}
      losses={plan.losses}
      height={wallHeight}
      onselect={select}
      onhost={lose}
      onover={(part, to) => rollout.attempt(to ? moved(plan, part, to) : null)}
      onmove={(part, to) => edit(moved(plan, part, to))}
    />
    <PlanTools
      {rollout}
      {place}
      {node}
      bind:filter
      ontables={() => {
        open = { kind: 'tables' };
      }}
      oncolumns={() => {
        columns = true;
      }}
    />
    <Sheet
      bind:this={sheet}
      {plan}
      bind:filter
      bind:columns
      selected={{ node, column: place.column }}
      busy={rollout.busy}
      unsent={rollout.unsentEdits}
      onselect={select}
      onedit={edit}
      ontry={(e) => rollout.attempt(e)}
      onsecret={(at, column) => {
        open = { kind: 'kept', node: at, column };
      }}
      onundo={() => rollout.undo()}
      onredo={() => rollout.redo()}
    />
  {/snippet}
  {#snippet details()}<PlanDetails
      {rollout}
      {plan}
      {place}
      {node}
      bind:lost
      onfix={fix}
      onagain={(one) => {
        open = { kind: 'removes', node: one };
      }}
      onrepair={async (nodes) => {
        if (await rollout.start({ repair: nodes })) router.go(place.base('run'));
      }}
      onstage={async (stage) => {
        if (await rollout.start({ stage })) router.go(place.base('run'));
      }}
      onkeys={(one, name) => {
        open = { kind: 'keys', node: one, name };
      }}
      onformer={() => {
        open = { kind: 'former' };
      }}
      onlost={(host) => {
        open = { kind: 'removes', node: '', lost: host };
      }}
      onadopt={() => {
        open = { kind: 'adopt' };
      }}
      onretire={() => {
        open = { kind: 'retire' };
      }}
    />{/snippet}
</Frame>
{#if open || rollout.clash}<Later
    load={parts.dialogs}
    {rollout}
    {plan}
    {open}
    onclose={() => {
      open = null;
    }}
  />{/if}
