<script lang="ts">
  /** What was built, against what was planned: every acceptance check of a run. */
  import type { RunView } from '../../lib/api/types';
  import { router } from '../../lib/router.svelte';
  import AcceptanceLedger from '../ledger/AcceptanceLedger.svelte';
  import AcceptanceSheet from '../sheet/AcceptanceSheet.svelte';
  import Wall from '../wall/Wall.svelte';
  import Frame from '../../lib/ui/Frame.svelte';
  import type { Place } from './place';
  import type { Rollout } from './rollout.svelte';
  import { acceptanceSentence } from './run';
  import SentenceBar from './SentenceBar.svelte';
  import { nodeStates } from './states';
  import Tools from './Tools.svelte';

  interface Props {
    rollout: Rollout;
    run: RunView;
    place: Place;
    wallHeight: number;
  }
  let { rollout, run, place, wallHeight }: Props = $props();
  let filter = $state('');
  let states = $derived(nodeStates(run, rollout.progress));
  let proof = $derived(
    run.proofs.find((one) => `${one.node}/${one.proof}` === router.query.get('proof')) ??
      run.proofs.find((one) => !one.passed) ??
      run.proofs[0],
  );
  let sentence = $derived(acceptanceSentence(run));
  async function act() {
    const { kind } = sentence.action;
    if (kind === 'look') router.go(place.base('run'));
    else if (kind !== 'none') await rollout.request(kind);
  }
</script>

<Frame>
  {#snippet bar()}<SentenceBar
      {sentence}
      busy={rollout.busy}
      doing={rollout.reading}
      onact={act}
    />{/snippet}
  {#snippet left()}
    <div class="pad"></div>
    <Wall
      hosts={run.hosts}
      nodes={run.nodes}
      {states}
      selected={proof?.node ?? ''}
      {filter}
      height={wallHeight}
      onselect={(node: string) => place.pick('proof', `${node}/${proof?.proof ?? 'running'}`)}
    />
    <Tools bind:filter />
    <AcceptanceSheet
      {run}
      {filter}
      selected={proof ? `${proof.node}/${proof.proof}` : ''}
      onproof={(key) => place.pick('proof', key)}
    />
  {/snippet}
  {#snippet details()}<AcceptanceLedger
      {run}
      {proof}
      onproof={(key) => place.pick('proof', key)}
    />{/snippet}
</Frame>

<style>
  .pad {
    height: 10px;
  }
</style>
