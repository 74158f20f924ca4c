<script lang="ts">
  /** Bay by rule at one look: a mark where a host breaks a rule, nothing where all is well. Rows are hosts by bay, columns rules by group. */
  import type { EstateView, FitnessView } from '../../lib/api/types';
  import Weight from '../../lib/ui/Weight.svelte';

  interface Props { fitness: FitnessView; hosts: EstateView['hosts']; chosen: string; onchoose: (host: string) => void }
  let { fitness, hosts, chosen, onchoose }: Props = $props();
  const ORDER = { blocker: 0, caution: 1, note: 2 };
  let worst = $derived.by(() => {
    const table = new Map<string, FitnessView['violations'][number]>();
    for (const v of fitness.violations) { const key = `${v.host} ${v.rule}`, old = table.get(key); if (!old || ORDER[v.severity] < ORDER[old.severity]) table.set(key, v); }
    return table;
  });
  let broken = $derived(new Set(fitness.violations.map((v) => v.rule)));
  let rules = $derived(fitness.rules.filter((r) => broken.has(r.id)));
  let kept = $derived(fitness.rules.length - rules.length);
  let groups = $derived(rules.reduce<{ name: string; size: number }[]>((all, r) => { const last = all.at(-1); if (last?.name === r.group) last.size++; else all.push({ name: r.group, size: 1 }); return all; }, []));
  const MANY = 12;                                       // a larger bay shows only the hosts that break something
  let hurt = $derived(new Set(fitness.violations.map((v) => v.host)));
  const inBay = (b: string) => hosts.filter((h) => `${h.site} · ${h.bay}` === b);
  const rows = (b: string) => { const all = inBay(b); return all.length <= MANY ? all : all.filter((h) => hurt.has(h.name) || h.name === chosen); };
  let bays = $derived([...new Set(hosts.map((h) => `${h.site} · ${h.bay}`))]);
</script>

{#if !rules.length}<p class="quiet all">All {fitness.rules.length} rules are kept by every host.</p>
{:else}
  <table>
    <thead><tr><th></th>{#each groups as g, i (i)}<th class="group" colspan={g.size}>{g.name}</th>{/each}</tr>
      <tr><th class="quiet corner">{kept} more rules are kept by all</th>{#each rules as r (r.id)}<th class="rule" title={`${r.why} Measured by ${r.measured}.`}><span>{r.title}</span></th>{/each}</tr></thead>
    {#each bays as b (b)}<tbody><tr><th class="bay" colspan={rules.length + 1}>{b}</th></tr>
      {#each rows(b) as h (h.name)}<tr class:chosen={h.name === chosen}><th scope="row"><button onclick={() => onchoose(h.name)}>{h.name}</button></th>
        {#each rules as r (r.id)}{@const v = worst.get(`${h.name} ${r.id}`)}<td title={v ? `${h.name}: ${v.message}` : `${h.name}: kept`}>{#if v}<button class="mark" onclick={() => onchoose(h.name)}><Weight severity={v.severity} /></button>{/if}</td>{/each}</tr>{/each}
      {#if rows(b).length < inBay(b).length}<tr><th class="more quiet" colspan={rules.length + 1}>{inBay(b).length - rows(b).length} {rows(b).length ? 'more ' : ''}hosts keep every rule</th></tr>{/if}</tbody>{/each}
  </table>
{/if}

<style>
  table { border-collapse: separate; border-spacing: 0; } .all { padding: 14px 0; }
  th { font-weight: 400; text-align: left; font-size: var(--text-s); } thead th { background: var(--paper); position: sticky; top: 0; } .group { border-bottom: 1px solid var(--strong-line); padding: 2px 8px; color: var(--soft); text-align: center; }
  thead tr:nth-child(2) th { top: 22px; border-bottom: 1px solid var(--strong-line); } .corner { vertical-align: bottom; padding: 0 12px 6px 8px; max-width: 150px; font-size: var(--text-xs); } .rule { height: 132px; vertical-align: bottom; padding: 0 0 6px; min-width: 40px; } .rule span { writing-mode: vertical-rl; transform: rotate(180deg); display: block; margin: 0 auto; max-height: 126px; line-height: 1.15; }
  .more { padding: 3px 8px; font-size: var(--text-s); } .bay { padding: 8px 8px 2px; color: var(--muted); } tbody th[scope] { padding: 3px 12px 3px 8px; border-bottom: 1px solid var(--line); } td { text-align: center; border-bottom: 1px solid var(--line); border-left: 1px solid var(--line); height: 24px; min-width: 40px; } button { border: 0; background: none; padding: 0; font-weight: 600; cursor: pointer; color: var(--ink); } button:hover { color: var(--accent); } .mark { display: grid; place-items: center; width: 100%; height: 100%; } .chosen > * { background: var(--accent-wash); }
</style>
