<script lang="ts">
  import type { RunView, Verdict } from '../../lib/api/types';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import { OUTCOME_MARKS, OUTCOME_WORDS, outcomeOf } from '../rollout/verdicts';

  interface Props {
    run: RunView;
    filter: string;
    selected: string;
    onproof: (key: string) => void;
  }
  let { run, filter, selected, onproof }: Props = $props();
  let proofs = $derived.by(() => {
    const seen = new Map<string, string>();
    for (const v of run.proofs) if (v.node) seen.set(v.proof, v.label);
    return [...seen];
  });
  let byKey = $derived(new Map(run.proofs.map((v) => [`${v.node}/${v.proof}`, v])));
  let cluster = $derived(run.proofs.filter((v) => !v.node));
  function told(v: Verdict): string {
    const outcome = outcomeOf(v);
    if (outcome === 'failed') return `${v.found} ≠ ${v.expected}`;
    return outcome === 'open' ? OUTCOME_WORDS.open : v.found;
  }
  let nodes = $derived(
    run.nodes.filter((n) => filter === '' || n.name.toLowerCase().includes(filter.toLowerCase())),
  );
</script>

{#snippet stone(v: Verdict | undefined, key: string, wide = false)}
  {#if v}
    {@const outcome = outcomeOf(v)}
    <button
      class:chosen={selected === key}
      class:bad={outcome === 'failed'}
      class:open={outcome === 'open'}
      class:wide
      title={`${v.label}: expected ${v.expected}, ${outcome === 'open' ? OUTCOME_WORDS.open : 'found'}: ${v.found}`}
      onclick={() => onproof(key)}
    >
      <StateMark state={OUTCOME_MARKS[outcome]} label={OUTCOME_WORDS[outcome]} size={13} /><span
        class="mono">{wide && outcome !== 'failed' ? `${v.label}: ` : ''}{told(v)}</span
      >
    </button>
  {:else}<span class="quiet">not checked</span>{/if}
{/snippet}

<div class="proofs">
  <table>
    <thead
      ><tr
        ><th scope="col" class="name">Node</th>{#each proofs as [id, label] (id)}<th scope="col"
            >{label}</th
          >{/each}</tr
      ></thead
    >
    <tbody>
      <tr class="cluster"
        ><th scope="row" class="name">cluster</th><td colspan={proofs.length}
          ><div class="line">
            {#each cluster as v (v.proof)}{@render stone(v, `/${v.proof}`, true)}{/each}
          </div></td
        ></tr
      >
      {#each nodes as node (node.id)}
        <tr
          ><th scope="row" class="name"
            ><i style:background={`var(--role-${node.role_index % 5})`}></i>{node.name}</th
          >
          {#each proofs as [id] (id)}<td
              >{@render stone(byKey.get(`${node.id}/${id}`), `${node.id}/${id}`)}</td
            >{/each}</tr
        >
      {/each}
    </tbody>
  </table>
</div>

<style>
  .proofs {
    flex: 1;
    min-height: 0;
    overflow: auto;
    border-top: 1px solid var(--strong-line);
  }
  table {
    border-collapse: separate;
    border-spacing: 0;
    min-width: 100%;
  }
  th {
    font-weight: 400;
    text-align: left;
    font-size: var(--text-s);
    color: var(--soft);
    background: var(--sunk);
    position: sticky;
    top: 0;
    padding: 6px 8px;
    white-space: nowrap;
    z-index: 2;
  }
  tbody th {
    background: var(--paper);
    top: auto;
    left: 0;
    z-index: 1;
    font-size: inherit;
    font-weight: 600;
    color: var(--ink);
    border-bottom: 1px solid var(--line);
  }
  .cluster th {
    font-weight: 400;
    font-style: italic;
    color: var(--soft);
  }
  .name {
    left: 0;
    min-width: 172px;
  }
  th i {
    display: inline-block;
    width: 5px;
    height: 15px;
    margin-right: 8px;
    vertical-align: -2px;
  }
  td {
    border-bottom: 1px solid var(--line);
    padding: 2px 4px;
    vertical-align: top;
  }
  .line {
    display: flex;
    gap: 18px;
  }
  button {
    display: flex;
    gap: 6px;
    align-items: center;
    border: 0;
    background: none;
    padding: 4px;
    cursor: pointer;
    max-width: 172px;
    border-radius: var(--radius);
    text-align: left;
  }
  button.wide {
    max-width: 480px;
  }
  button:hover,
  .chosen {
    background: var(--accent-wash);
    box-shadow: inset 0 0 0 1px var(--accent);
  }
  button span {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    font-size: 12px;
  }
  .open {
    color: var(--soft);
    border-bottom: 1px dashed var(--line);
  }
  .bad {
    background: var(--blocker-wash);
    color: var(--blocker);
  }
  @media print {
    .proofs {
      overflow: visible;
      height: auto;
    }
  }
</style>
