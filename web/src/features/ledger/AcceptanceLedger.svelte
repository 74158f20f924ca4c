<script lang="ts">
  import type { RunView, Verdict } from '../../lib/api/types';
  import { inside, moment, utc, zone } from '../../lib/format';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import { OUTCOME_MARKS, OUTCOME_WORDS, outcomeOf } from '../rollout/verdicts';
  import Mesh from './Mesh.svelte';
  import Rounds from './Rounds.svelte';
  import Section from './Section.svelte';
  import SeriesChart from './SeriesChart.svelte';
  import { withCharts } from './series';
  import SeriesRows from './SeriesRows.svelte';

  interface Props {
    run: RunView;
    proof: Verdict | undefined;
    onproof: (key: string) => void;
  }
  let { run, proof, onproof }: Props = $props();
  let names = $derived(new Map(run.nodes.map((n) => [n.id, n.name])));
  let failed = $derived(run.proofs.filter((v) => outcomeOf(v) === 'failed'));
  let meshes = $derived(run.proofs.filter((v) => v.mesh));
  let measured = $derived(withCharts(run.proofs));
  const nameOf = (verdict: Verdict) => names.get(verdict.node) ?? 'cluster';
  let open = $derived(run.proofs.filter((v) => outcomeOf(v) === 'open'));
</script>

{#if proof}
  <Section title={`${names.get(proof.node) ?? 'cluster'} · ${inside(proof.label)}`}>
    <p class="verdict">
      <StateMark state={OUTCOME_MARKS[outcomeOf(proof)]} label="" />
      {OUTCOME_WORDS[outcomeOf(proof)]}
    </p>
    <dl>
      <dt>Expected</dt>
      <dd class="mono">{proof.expected}</dd>
      <dt>Found</dt>
      <dd class="mono" class:bad={outcomeOf(proof) === 'failed'}>{proof.found}</dd>
      <dt>Method</dt>
      <dd class="mono">{proof.how}</dd>
    </dl>
    {#if proof.chart}<SeriesChart chart={proof.chart} />{/if}
  </Section>
{/if}
{#snippet list(verdicts: Verdict[])}
  <ul>
    {#each verdicts as v (v.node + v.proof)}<li>
        <button onclick={() => onproof(`${v.node}/${v.proof}`)}
          ><StateMark
            state={OUTCOME_MARKS[outcomeOf(v)]}
            label={OUTCOME_WORDS[outcomeOf(v)]}
            size={13}
          /> <b>{names.get(v.node) ?? 'cluster'}</b>
          {inside(v.label)}</button
        >
      </li>{/each}
  </ul>
{/snippet}
<Section title="Failed" aside={`${failed.length} of ${run.proofs.length}`}>
  {#if !run.proofs.length}<p class="quiet">
      No acceptance checks were run.
    </p>{:else if !failed.length}<p class="quiet">No check failed.</p>{/if}
  {@render list(failed)}
</Section>
{#if open.length}<Section title="Not checked" aside={`${open.length} of ${run.proofs.length}`}
    >{@render list(open)}</Section
  >{/if}
<Rounds {run} {onproof} />
{#each meshes as one (one.proof)}{#if one.mesh}<Section
      title={one.label}
      aside={one.found.split(';')[0]}
    >
      <Mesh mesh={one.mesh} />
    </Section>{/if}{/each}
{#each measured as some (some[0]?.proof)}
  <Section title={some[0]?.label ?? ''}><SeriesRows verdicts={some} {nameOf} {onproof} /></Section>
{/each}
{#if run.proofs.length}
  <Section title="Export">
    <p><a href={`/api/runs/${run.id}/acceptance.html`} download>Report (HTML, one file)</a></p>
    <p><a href={`/api/runs/${run.id}/acceptance.xml`} download>JUnit XML</a></p>
    {#if run.proved_at}<p class="quiet" title={utc(run.proved_at)}>
        Checked {moment(run.proved_at)}
        {zone()}. Checks can be repeated. A workload removes what it wrote; other checks change
        nothing.
      </p>{/if}
  </Section>
{/if}

<style>
  .verdict {
    margin-bottom: 8px;
  }
  dl {
    --label: 74px;
  }
  .bad {
    color: var(--blocker);
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  button {
    border: 0;
    background: none;
    padding: 2px 0 2px 17px;
    text-indent: -17px;
    text-align: left;
    cursor: pointer;
  }
  button:hover {
    color: var(--accent);
  }
  p {
    margin-bottom: 4px;
  }
</style>
