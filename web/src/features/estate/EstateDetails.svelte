<script lang="ts">
  /** What is chosen on the estate's page; with nothing chosen, its networks and pools. */
  import type { Action, EstateView, FitnessView } from '../../lib/api/types';
  import { count, size } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import Section from '../ledger/Section.svelte';
  import GuideLink from '../../lib/ui/GuideLink.svelte';

  interface Props {
    estate: EstateView;
    fitness: FitnessView | null;
    at: string;
    busy: boolean;
    onread: (name: string) => void;
    onprepare: (actions: Action[]) => void;
  }
  let { estate, fitness, at, busy, onread, onprepare }: Props = $props();
  let chosen = $derived(estate.hosts.find((h) => h.name === at)),
    picked = $derived(estate.machines.find((m) => m.machine.name === at));
  let mine = $derived(fitness?.violations.filter((v) => v.host === at) ?? []);
</script>

{#if chosen}
  <Section title={chosen.name} aside={chosen.address}>
    {#if chosen.trouble}<p class="alarm">{chosen.trouble}</p>{/if}
    <dl>
      <dt>Hypervisor</dt>
      <dd>{chosen.hypervisor || '—'}</dd>
      <dt>CPU</dt>
      <dd>{chosen.cpu_model}, {chosen.threads} threads</dd>
      <dt>Networks</dt>
      <dd>{chosen.networks.join(', ') || 'nothing'}</dd>
      {#if chosen.origin}<dt>Built from</dt>
        <dd>
          <a href={`/estate/machines/${chosen.origin.machine}`}>{chosen.origin.machine}</a>, plan {chosen
            .origin.plan}
        </dd>{/if}
      {#if chosen.note}<dt>Note</dt>
        <dd>{chosen.note}</dd>{/if}
    </dl>
    <div class="acts">
      <a class="open" href={`/estate/hosts/${chosen.name}`}>Open {chosen.name}</a><Button
        disabled={busy}
        onclick={() => onread(chosen!.name)}>Read {chosen.name}</Button
      >
    </div>
  </Section>
{:else if picked}
  <Section title={picked.machine.name} aside={picked.machine.address}>
    {#if picked.facts.trouble}<p class="alarm">{picked.facts.trouble}</p>{/if}
    <dl>
      <dt>Bare metal</dt>
      <dd>{picked.facts.maker} {picked.facts.model}</dd>
      <dt>Power</dt>
      <dd>{picked.facts.power || 'not reported'}</dd>
      <dt>Drives</dt>
      <dd>
        {picked.facts.drives?.length
          ? size(picked.facts.drives.reduce((a, d) => a + (d.size_bytes ?? 0), 0)) + ' raw'
          : 'not reported'}
      </dd>
      {#if picked.lives}<dt>Node</dt>
        <dd>
          {#if picked.lives.host}<a href={`/estate/hosts/${picked.lives.host}`}
              >{picked.lives.name}</a
            >{:else}{picked.lives.name}{/if}, plan {picked.lives.plan}
        </dd>{/if}
    </dl>
    <div class="acts">
      <a class="open" href={`/estate/machines/${picked.machine.name}`}>Open {picked.machine.name}</a
      ><Button disabled={busy} onclick={() => onread(picked!.machine.name)}
        >Read {picked.machine.name}</Button
      >
    </div>
  </Section>
{:else}<p class="quiet choose">Select a host or machine.</p>{/if}
{#if mine.length}<Section title="Readiness" aside={count(mine.length, 'rule')}
    ><ul class="fit">
      {#each mine as v, i (i)}<li>
          <Weight severity={v.severity} /><GuideLink
            to={`host-rules#${v.rule}`}
            about={v.rule}
          /><span
            >{v.message}{#if v.remedy}<span class="quiet remedy"
                >{#if v.action}<Button kind="link" onclick={() => onprepare([v.action!])}
                    >{v.remedy}</Button
                  >{:else}{v.remedy}{/if}</span
              >{/if}</span
          >
        </li>{/each}
    </ul></Section
  >{/if}
{#if chosen}
  <Section title="VMs" aside={count(chosen.bedrock.length, 'VM')}
    ><ul>
      {#each chosen.bedrock as b (b.name)}<li>
          <span>{b.name}{b.ours ? ' (created here)' : ''}</span><span class="mono"
            >{size(b.memory_bytes)}</span
          >
        </li>{/each}
    </ul></Section
  >
  <Section title="Datastores" aside="free of all"
    ><ul>
      {#each chosen.stores as s (s.name)}<li title={s.shared}>
          <span>{s.name}{s.shared ? ', shared' : ''}</span><span class="mono"
            >{size(s.free_bytes)} of {size(s.capacity_bytes)}</span
          >
        </li>{/each}
    </ul></Section
  >
{:else if !picked}
  <Section title="Networks" aside={estate.networks.length ? 'gateway' : ''}
    >{#if !estate.networks.length}<p class="quiet choose">
        No networks described. Add them on the networks page.
      </p>{/if}
    <ul>
      {#each estate.networks as n (n.name)}<li>
          <span>{n.name} <span class="mono quiet">{n.subnet}</span></span><span class="mono"
            >{n.gateway}</span
          >
        </li>{/each}
    </ul></Section
  >
  <Section title="Pools"
    >{#if !estate.pools.length}<p class="quiet choose">
        No pools. A pool assigns addresses of a network.
      </p>{/if}
    <ul>
      {#each estate.pools as p (p.name)}<li>
          <span>{p.name}</span><span class="mono"
            >{p.first} … {p.last.split('.').slice(2).join('.')}</span
          >
        </li>{/each}
    </ul></Section
  >
{/if}

<style>
  .open {
    font-weight: 600;
    padding: 4px 0;
  }
  .fit li {
    justify-content: flex-start !important;
    gap: 8px;
  }
  .fit :global(svg) {
    margin-top: 3px;
  }
  .remedy {
    display: block;
  }
  .alarm {
    color: var(--blocker);
  }
  dl {
    --label: 78px;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
    font-size: var(--text-s);
  }
  li {
    display: flex;
    justify-content: space-between;
    gap: 10px;
    padding: 1px 0;
  }
  .acts {
    display: flex;
    gap: 12px;
    margin-top: 10px;
    align-items: center;
  }
  .choose {
    margin-bottom: 18px;
  }
</style>
