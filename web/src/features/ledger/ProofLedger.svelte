<script lang="ts">
  import type { RunView, Verdict } from '../../lib/api/types';
  import { inside, moment, utc } from '../../lib/format';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import Section from './Section.svelte';

  interface Props { run: RunView; proof: Verdict | undefined; onproof: (key: string) => void }
  let { run, proof, onproof }: Props = $props();
  let names = $derived(new Map(run.nodes.map((n) => [n.id, n.name])));
  let failed = $derived(run.proofs.filter((v) => !v.passed));
</script>

{#if proof}
  <Section title={`${names.get(proof.node) ?? 'cluster'} · ${inside(proof.label)}`}>
    <p class="verdict"><StateMark state={proof.passed ? 'proved' : 'failed'} /> {proof.passed ? 'proved' : 'does not hold'}</p>
    <dl><dt>Expected</dt><dd class="mono">{proof.expected}</dd><dt>Found</dt><dd class="mono" class:bad={!proof.passed}>{proof.found}</dd><dt>Asked by</dt><dd class="mono">{proof.how}</dd></dl>
  </Section>
{/if}
<Section title="Does not hold" aside={`${failed.length} of ${run.proofs.length}`}>
  {#if !failed.length}<p class="quiet">{run.proofs.length ? 'Every proof holds.' : 'Nothing was proved yet.'}</p>{/if}
  <ul>{#each failed as v (v.node + v.proof)}<li><button onclick={() => onproof(`${v.node}/${v.proof}`)}><StateMark state="failed" size={13} /> <b>{names.get(v.node) ?? 'cluster'}</b> {inside(v.label)}</button></li>{/each}</ul>
</Section>
{#if run.proofs.length}
  <Section title="To hand over">
    <p><a href={`/api/runs/${run.id}/acceptance.html`} download>Report (HTML, one file)</a></p>
    <p><a href={`/api/runs/${run.id}/acceptance.xml`} download>JUnit XML</a></p>
    {#if run.proved_at}<p class="quiet" title={utc(run.proved_at)}>Proved {moment(run.proved_at)}. Proving changes nothing and can be repeated.</p>{/if}
  </Section>
{/if}

<style>
  .verdict { margin-bottom: 8px; }
  dl { display: grid; grid-template-columns: 74px 1fr; gap: 5px 10px; margin: 0; font-size: var(--text-s); } dt { color: var(--muted); } dd { margin: 0; overflow-wrap: anywhere; } .bad { color: var(--blocker); }
  ul { list-style: none; margin: 0; padding: 0; } button { border: 0; background: none; padding: 2px 0; cursor: pointer; } button:hover { color: var(--accent); } b { font-weight: 600; }
  p { margin-bottom: 4px; }
</style>
