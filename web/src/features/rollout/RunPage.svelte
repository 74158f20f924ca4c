<script lang="ts">
  /** A run under way or ended: the wall, its steps in time, and the chosen step. */
  import type { RunView } from '../../lib/api/types';
  import { isTyping, prefs } from '../../lib/prefs.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import RunLedger from '../ledger/RunLedger.svelte';
  import Timeline from '../sheet/Timeline.svelte';
  import Wall from '../wall/Wall.svelte';
  import Frame from '../../lib/ui/Frame.svelte';
  import type { Place } from './place';
  import RollBack from './RollBack.svelte';
  import type { Rollout } from './rollout.svelte';
  import { chosenStep, sentenceOf } from './run';
  import SentenceBar from './SentenceBar.svelte';
  import { nodeStates } from './states';
  import TakeKit from './TakeKit.svelte';
  import Tools from './Tools.svelte';

  interface Props {
    rollout: Rollout;
    run: RunView;
    place: Place;
    now: number;
    wallHeight: number;
  }
  let { rollout, run, place, now, wallHeight }: Props = $props();
  let filter = $state(''),
    undoing = $state(false);
  let states = $derived(nodeStates(run, rollout.progress));
  let step = $derived(chosenStep(run, router.query.get('step') ?? '', place.node));
  let sentence = $derived(sentenceOf(run));
  let failed = $derived(run.steps.some((one) => one.state === 'failed'));

  async function act() {
    const { kind } = sentence.action;
    if (kind === 'look') router.go(place.base('run'));
    else if (kind === 'acceptance') router.go(place.base('acceptance'));
    else if (kind !== 'none') await rollout.request(kind);
  }
  function keys(event: KeyboardEvent) {
    if (!prefs.letters || isTyping(event.target) || event.ctrlKey || event.metaKey) return;
    if (event.key === 'h' && run.state === 'running') void rollout.request('hold');
    if (event.key === 'g' && run.state === 'held') void rollout.request('resume');
    if (event.key === 'r' && run.state !== 'held' && failed) void rollout.request('retry');
  }
</script>

<svelte:window onkeydown={keys} />
<Frame>
  {#snippet bar()}<SentenceBar {sentence} busy={rollout.busy} doing={rollout.reading} onact={act}>
      {#snippet more()}{#if run.state === 'trouble'}<Button onclick={() => rollout.request('hold')}
            >Hold</Button
          >{/if}<TakeKit {run} ontake={() => rollout.request('kit')} />{/snippet}
    </SentenceBar>{/snippet}
  {#snippet left()}
    <div class="pad"></div>
    <Wall
      hosts={run.hosts}
      nodes={run.nodes}
      {states}
      selected={step?.node ?? ''}
      {filter}
      height={wallHeight}
      onselect={(node: string) => place.pick('node', node)}
    />
    <Tools bind:filter
      >{#if prefs.letters}<span class="right quiet">H hold · G resume · R retry · ? shortcuts</span
        >{/if}</Tools
    >
    <Timeline
      {run}
      {now}
      {filter}
      {states}
      selected={step?.key ?? ''}
      progress={rollout.progress}
      onstep={(key) => place.pick('step', key)}
      onnode={(node) => place.pick('node', node)}
    />
  {/snippet}
  {#snippet details()}<RunLedger
      {run}
      {step}
      {now}
      progress={rollout.progress}
      onrequest={(what, body) => rollout.request(what, body)}
      onundo={() => {
        undoing = true;
      }}
    />{/snippet}
</Frame>
{#if undoing}<RollBack
    {run}
    onagree={() => {
      undoing = false;
      void rollout.request('undo');
    }}
    onclose={() => {
      undoing = false;
    }}
  />{/if}

<style>
  .pad {
    height: 10px;
  }
</style>
