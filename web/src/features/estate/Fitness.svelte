<script lang="ts">
  /** Bay by rule at one look: a mark where a host or machine breaks a rule, nothing where all is well. Rows are hosts by bay, columns rules by group. */
  import type { Action, FitnessView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import RuleSwitch from './RuleSwitch.svelte';

  interface Row {
    name: string;
    bay: string;
    key: string;
    machine: boolean;
  }
  interface Props {
    fitness: FitnessView;
    rows: Row[];
    chosen: string;
    onchoose: (row: Row) => void;
    onrepair: (actions: Action[]) => void;
    onjudged: (fitness: FitnessView) => void;
  }
  let { fitness, rows, chosen, onchoose, onrepair, onjudged }: Props = $props();
  const ORDER = { blocker: 0, caution: 1, note: 2 };
  let about = $state<FitnessView['rules'][number] | null>(null),
    notes = $state(false);
  let shown = $derived(fitness.violations.filter((v) => notes || v.severity !== 'note'));
  let worst = $derived.by(() => {
    const table = new Map<string, FitnessView['violations'][number]>();
    for (const v of shown) {
      const key = `${v.host} ${v.rule}`,
        old = table.get(key);
      if (!old || ORDER[v.severity] < ORDER[old.severity]) table.set(key, v);
    }
    return table;
  });
  let off = $derived(
    new Set((fitness.settings ?? []).filter((s) => s.off).map((s) => `${s.bay} ${s.rule}`)),
  );
  let broken = $derived(
    new Set([...shown.map((v) => v.rule), ...(fitness.settings ?? []).map((s) => s.rule)]),
  );
  let rules = $derived(fitness.rules.filter((r) => broken.has(r.id)));
  let kept = $derived(fitness.rules.length - rules.length);
  let groups = $derived(
    rules.reduce<{ name: string; size: number }[]>((all, r) => {
      const last = all.at(-1);
      if (last?.name === r.group) last.size++;
      else all.push({ name: r.group, size: 1 });
      return all;
    }, []),
  );
  const MANY = 12; // a larger bay shows only the hosts that break something
  let hurt = $derived(new Set(shown.map((v) => v.host)));
  let bays = $derived(
    [...new Set(rows.map((r) => r.key))].map((key) => {
      const all = rows.filter((r) => r.key === key),
        listed =
          all.length <= MANY
            ? all
            : all.filter((r) => hurt.has(r.name) || r.name === chosen).slice(0, 60);
      const actions = fitness.violations
        .filter((v) => v.action && all.some((r) => r.name === v.host))
        .map((v) => v.action!);
      return { key, all, listed, actions };
    }),
  );
  let switchable = $derived([...new Set(rows.map((r) => r.bay))]);
  let mild = $derived(fitness.violations.filter((v) => v.severity === 'note').length);
  /** What a cell says: how the rule fails, that it is off, or that it passes. */
  function told(
    one: { name: string; bay: string; machine: boolean },
    rule: FitnessView['rules'][number],
    message = '',
  ): string {
    if (message) return `${one.name}: ${message}`;
    if (off.has(`${one.bay} ${rule.id}`)) return `${one.bay}: switched off`;
    return rule.machine === one.machine ? `${one.name}: passes` : '';
  }
</script>

<p class="tools">
  <label><input type="checkbox" bind:checked={notes} /> show {count(mild, 'note')} too</label>
</p>
{#if !rules.length}<p class="quiet all">
    All {fitness.rules.length} rules pass on all hosts{mild ? ', except notes' : ''}.
  </p>
{:else}
  <table>
    <thead
      ><tr
        ><td></td>{#each groups as g, i (i)}<th class="group" colspan={g.size}>{g.name}</th
          >{/each}</tr
      >
      <tr
        ><th class="quiet corner">{kept} more rules pass everywhere</th>{#each rules as r (r.id)}<th
            class="rule"
            ><button
              title={`${r.why} Source: ${r.measured}.`}
              onclick={() => {
                about = r;
              }}><span>{r.title}</span></button
            ></th
          >{/each}</tr
      ></thead
    >
    {#each bays as b (b.key)}<tbody
        ><tr
          ><th class="bay" colspan={rules.length + 1}
            >{b.key}{#if b.actions.length}<Button kind="link" onclick={() => onrepair(b.actions)}
                >fix {count(b.actions.length, 'rule')} here</Button
              >{/if}</th
          ></tr
        >
        {#each b.listed as h (h.name)}<tr class:chosen={h.name === chosen}
            ><th scope="row"><button onclick={() => onchoose(h)}>{h.name}</button></th>
            {#each rules as r (r.id)}{@const v = worst.get(`${h.name} ${r.id}`)}<td
                class:off={off.has(`${h.bay} ${r.id}`)}
                title={told(h, r, v?.message)}
                >{#if v}<button class="mark" onclick={() => onchoose(h)}
                    ><Weight severity={v.severity} /></button
                  >{/if}</td
              >{/each}</tr
          >{/each}
        {#if b.listed.length < b.all.length}<tr
            ><th class="more quiet" colspan={rules.length + 1}
              >{b.all.length - b.listed.length}
              {b.listed.length ? 'more ' : ''}pass all rules{notes ? '' : ', except notes'}</th
            ></tr
          >{/if}</tbody
      >{/each}
  </table>
{/if}
{#if about}{@const hurting = rows.find((r) =>
    fitness.violations.some((v) => v.rule === about?.id && v.host === r.name),
  )?.bay}<RuleSwitch
    rule={about}
    {fitness}
    bays={hurting ? [hurting, ...switchable.filter((b) => b !== hurting)] : switchable}
    onchanged={onjudged}
    onclose={() => {
      about = null;
    }}
  />{/if}

<style>
  .tools {
    font-size: var(--text-s);
    color: var(--muted);
    padding: 4px 0 0 8px;
  }
  table {
    border-collapse: separate;
    border-spacing: 0;
  }
  .all {
    padding: 14px 8px;
  }
  th {
    font-weight: 400;
    text-align: left;
    font-size: var(--text-s);
  }
  thead th {
    background: var(--paper);
    position: sticky;
    top: 0;
    z-index: 1;
  }
  .group {
    border-bottom: 1px solid var(--strong-line);
    padding: 2px 4px;
    color: var(--soft);
    text-align: center;
  }
  thead tr:nth-child(2) th {
    top: 22px;
    border-bottom: 1px solid var(--strong-line);
  }
  .corner {
    vertical-align: bottom;
    padding: 0 12px 6px 8px;
    max-width: 150px;
    font-size: var(--text-xs);
  }
  .rule {
    height: 128px;
    vertical-align: bottom;
    padding: 0 0 6px;
    min-width: 38px;
  }
  .rule button {
    font-weight: 400;
  }
  .rule span {
    writing-mode: vertical-rl;
    transform: rotate(180deg);
    display: block;
    margin: 0 auto;
    max-height: 122px;
    line-height: 1.12;
    text-align: left;
  }
  .more {
    padding: 3px 8px;
  }
  .bay {
    padding: 8px 8px 2px;
    color: var(--muted);
  }
  .bay :global(button) {
    margin-left: 14px;
    font-size: var(--text-s);
  }
  tbody th[scope] {
    padding: 3px 12px 3px 8px;
    border-bottom: 1px solid var(--line);
  }
  td {
    text-align: center;
    border-bottom: 1px solid var(--line);
    border-left: 1px solid var(--line);
    height: 24px;
    min-width: 38px;
  }
  td.off {
    background: repeating-linear-gradient(135deg, transparent 0 4px, var(--line) 4px 5px);
  }
  th button,
  .mark {
    border: 0;
    background: none;
    padding: 0;
    font-weight: 600;
    cursor: pointer;
    color: var(--ink);
  }
  th button:hover {
    color: var(--accent);
  }
  .mark {
    display: grid;
    place-items: center;
    width: 100%;
    height: 100%;
  }
  .chosen > * {
    background: var(--accent-wash);
  }
</style>
