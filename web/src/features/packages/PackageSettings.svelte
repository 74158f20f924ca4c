<script lang="ts">
  /** What the package asks for each node, and what its publisher has fixed. */
  import type { PackageView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import Section from '../ledger/Section.svelte';

  let { one }: { one: PackageView } = $props();
  let groups = $derived([...new Set(one.questions.filter((q) => q.asked).map((q) => q.category))]);
  let fixed = $derived(one.questions.filter((q) => !q.asked));
  let plan = $derived(one.plans[0] ?? '');
</script>

{#if one.questions.length}<Section
    title="Settings"
    aside={`${one.questions.length - fixed.length} asked, ${fixed.length} fixed`}
  >
    {#each groups as g (g)}<h3>{g || 'General'}</h3>
      <table>
        <tbody
          >{#each one.questions.filter((q) => q.asked && q.category === g) as q (q.key)}<tr
              ><th scope="row" title={q.key}>{q.label}</th><td>{q.description}</td><td class="quiet"
                >{q.rule}</td
              ><td class="answered"
                >{#if q.answered}{#if plan}<a href={`/plans/${plan}`}>{q.answered} in {plan}</a
                    >{:else}<span class="quiet">column {q.answered}</span>{/if}{:else}<span
                    class="quiet">own column</span
                  >{/if}</td
              ></tr
            >{/each}</tbody
        >
      </table>{/each}
    {#if fixed.length}<details>
        <summary>{count(fixed.length, 'value')} fixed by the publisher</summary>
        <table>
          <tbody
            >{#each fixed as q (q.key)}<tr
                ><th scope="row" class="mono">{q.key}</th><td class="mono"
                  >{q.secret ? '••••' : q.default}</td
                ><td class="quiet">{q.rule}</td></tr
              >{/each}</tbody
          >
        </table>
      </details>{/if}
  </Section>{/if}

<style>
  table {
    border-collapse: collapse;
    width: 100%;
  }
  td,
  th {
    padding: 4px 12px 4px 0;
    text-align: left;
    vertical-align: top;
    font-size: var(--text-s);
    border-bottom: 1px solid var(--line);
  }
  th {
    font-weight: 600;
  }
  .answered {
    text-align: right;
    white-space: nowrap;
  }
  h3 {
    font-size: var(--text-s);
    color: var(--muted);
    margin: 8px 0 2px;
  }
  summary {
    cursor: pointer;
    font-size: var(--text-s);
    color: var(--accent);
    margin-top: 8px;
  }
</style>
