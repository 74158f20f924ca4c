<script lang="ts">
  /** From a workload to sizes and node counts, and the capacity and redundancy that follow. */
  import { send } from '../../lib/api/client';
  import type { Edit, PlanView, SizingView } from '../../lib/api/types';
  import { size } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';
  import CapacityChart from './CapacityChart.svelte';
  import Schemes from './Schemes.svelte';

  interface Props {
    plan: PlanView;
    busy: boolean;
    onedit: (edits: Edit[]) => void;
  }
  let { plan, busy, onedit }: Props = $props();
  let answer = $state.raw<SizingView | null>(null);
  let typed = $state<Record<string, string>>({});
  let timer: ReturnType<typeof setTimeout> | undefined;
  let asked = 0;
  $effect(() => {
    void plan.version;
    void ask();
  });
  async function ask() {
    const own = ++asked;
    const loads = Object.fromEntries(
      Object.entries(typed)
        .filter(([, text]) => text.trim() !== '' && Number.isFinite(Number(text)))
        .map(([id, text]) => [id, Number(text)]),
    );
    try {
      const found = await send('POST', `/plans/${plan.id}/sizing`, { loads });
      if (own === asked) answer = found;
    } catch (error) {
      if (own === asked) notices.problem(error);
    }
  }
  function type(id: string, text: string) {
    typed[id] = text;
    clearTimeout(timer);
    timer = setTimeout(() => void ask(), 120);
  }
  const taken = (role: string) => plan.roles.find((one) => one.id === role)?.count;
  const sizeOf = (role: string) => {
    const all = new Set(
      plan.nodes.filter((n) => n.role === role).map((n) => n.cells['size']?.value),
    );
    return all.size === 1 ? [...all][0] : '';
  };
  const same = (p: SizingView['proposals'][number]) =>
    p.chosen &&
    taken(p.role) === p.chosen.count &&
    (!Object.keys(p.chosen.carries).length || sizeOf(p.role) === p.chosen.size);
  let proposals = $derived(answer?.proposals ?? []);
</script>

{#if answer && !answer.loads.length}<p class="quiet">
    The kit {plan.kit_title} gives no figures to size by. Set numbers and sizes in the line above the
    wall.
  </p>
{:else if answer}
  <Section title="Workload">
    <div class="loads">
      {#each answer.loads as l (l.id)}<label for={`load-${l.id}`}>{l.label}</label><span
          ><input
            id={`load-${l.id}`}
            inputmode="decimal"
            value={typed[l.id] ?? String(l.value)}
            oninput={(e) => type(l.id, e.currentTarget.value)}
          /><i>{l.unit}</i></span
        >{/each}
    </div>
  </Section>
  <Section title="Proposed nodes">
    <ul>
      {#each proposals as p (p.role)}
        <li class:none={!p.chosen}>
          <span class="role"
            ><b>{p.label}</b>{#if same(p)}<i>as planned</i>{:else}<i
                >planned: {taken(p.role) ?? 0} × {sizeOf(p.role) || 'mixed'}</i
              >{/if}</span
          >
          {#if p.chosen}<span class="mono"
              >{p.chosen.count ? `${p.chosen.count} × ${p.chosen.size}` : '0 nodes'}</span
            ><span class="mono quiet right"
              >{p.chosen.count ? size(p.chosen.memory_bytes) : ''}</span
            >{:else}<span class="bad">no size is enough</span><span></span>{/if}
          {#if p.reason}<p class="quiet">
              {p.chosen ? 'Smaller is not enough: ' : ''}{p.reason}
            </p>{/if}
        </li>
      {/each}
    </ul>
    <Button
      kind={proposals.every(same) ? 'plain' : 'main'}
      disabled={busy ||
        !answer.edits.length ||
        proposals.some((p) => !p.chosen) ||
        proposals.every(same)}
      onclick={() => answer && onedit(answer.edits)}
      >{proposals.every(same) ? 'Applied to plan' : 'Apply to plan'}</Button
    >
  </Section>
  <CapacityChart {answer} />
{:else}<p class="quiet">Calculating …</p>{/if}

<Schemes {plan} {busy} {onedit} />

<style>
  .loads {
    display: grid;
    grid-template-columns: 1fr 128px;
    gap: 5px 10px;
    align-items: center;
    font-size: var(--text-s);
  }
  .loads span {
    display: flex;
    align-items: center;
    gap: 6px;
  }
  .loads i {
    font-style: normal;
    color: var(--muted);
  }
  input {
    width: 84px;
    text-align: right;
    font-family: var(--mono);
    font-size: 12.5px;
  }
  ul {
    list-style: none;
    margin: 0 0 10px;
    padding: 0;
  }
  li {
    display: grid;
    grid-template-columns: 1fr auto 62px;
    gap: 1px 10px;
    align-items: baseline;
    padding: 5px 0;
    border-bottom: 1px solid var(--line);
  }
  li p {
    grid-column: 1 / -1;
    font-size: var(--text-s);
  }
  .role b {
    font-weight: 600;
    margin-right: 7px;
  }
  .role i {
    font-style: normal;
    color: var(--muted);
    font-size: var(--text-s);
  }
  .right {
    text-align: right;
  }
  .bad {
    color: var(--blocker);
  }
</style>
