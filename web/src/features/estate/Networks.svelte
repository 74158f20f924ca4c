<script lang="ts">
  /** Networks as lines from top to bottom, hosts as lines across: a joint where a host carries a network, a gap where it does not. */
  import type { EstateView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import NetworkBox from './NetworkBox.svelte';
  import { carrying } from './provided';

  interface Props {
    estate: EstateView;
    hosts: EstateView['hosts'];
    onchoose: (name: string) => void;
    onchanged: () => void;
  }
  let { estate, hosts, onchoose, onchanged }: Props = $props();
  let found = $derived(carrying({ hosts, networks: estate.networks }));
  let open = $state<Record<string, boolean>>({});
  /** The network that is being changed, or a new one. */
  let edited = $state.raw<{ network: EstateView['networks'][number] | null } | null>(null);
  const own = (name: string) => estate.networks.find((n) => n.name === name);
  const about = (name: string) => {
    const n = own(name);
    return n
      ? [
          n.subnet,
          n.subnet6,
          n.dynamic_first ? `DHCP ${n.dynamic_first} to ${n.dynamic_last}` : 'no DHCP',
        ]
          .filter(Boolean)
          .join(', ')
      : '';
  };
  const short = (name: string) => {
    const n = own(name);
    return n ? `${n.dynamic_first ? ' · DHCP' : ''}${n.subnet6 ? ' · IPv6' : ''}` : '';
  };
  const WORDS = {
    carried: 'carried',
    down: 'no link',
    asleep: 'not started',
    inner: 'no uplink',
    absent: 'not carried',
  };
  function tagOf(network: { vlan: number | null; described: boolean }): string {
    if (network.vlan) return `VLAN ${network.vlan}`;
    return network.described ? 'untagged' : 'not described';
  }
</script>

<p class="head-line">
  <Button
    onclick={() => {
      edited = { network: null };
    }}>New network</Button
  >
  {#if !estate.networks.length}<span class="quiet"
      >No networks described. Add those that hosts have, under the name hosts call them.</span
    >{/if}
</p>
{#if edited}<NetworkBox
    network={edited.network}
    {onchanged}
    onclose={() => {
      edited = null;
    }}
  />{/if}
<div class="nets" style:--n={found.networks.length} role="table" aria-label="Networks by host">
  <div class="row head" role="row">
    <span role="columnheader">{found.bays.some((b) => b.gaps) ? 'missing ones first' : ''}</span
    >{#each found.networks as n (n.name)}<span
        class="net"
        role="columnheader"
        class:unknown={!n.described}
        >{#if n.described}<button
            class="name"
            title={`Change network ${n.name}`}
            onclick={() => {
              edited = { network: own(n.name) ?? null };
            }}>{n.name}</button
          >{:else}<b>{n.name}</b>{/if}<span class="mono" title={about(n.name)}
          >{tagOf(n)}{short(n.name)}</span
        ></span
      >{/each}
  </div>
  {#each found.bays as b (b.bay)}
    <div class="row title" role="row">
      <span role="rowheader"
        >{b.bay}{#if b.gaps}<em>{count(b.gaps, 'gap')}</em>{/if}</span
      >{#each found.networks as n (n.name)}<span class="cell through"></span>{/each}
    </div>
    {#each b.rows as r, i (i)}
      <div class="row" role="row">
        <span class="who" role="rowheader"
          >{#each r.hosts.slice(0, open[`${b.bay} ${i}`] ? 400 : 4) as name (name)}<button
              onclick={() => onchoose(name)}>{name}</button
            >{/each}{#if r.hosts.length > 4 && !open[`${b.bay} ${i}`]}<button
              class="more"
              onclick={() => {
                open = { ...open, [`${b.bay} ${i}`]: true };
              }}>and {r.hosts.length - 4} alike</button
            >{/if}</span
        >
        {#each r.cells as c, k (k)}<span
            class="cell {c.state}"
            class:odd={c.odd}
            role="cell"
            title={`${found.networks[k]?.name}: ${WORDS[c.state]}${c.port ? ` over ${c.port}` : ''}${c.mtu ? `, MTU ${c.mtu}` : ''}`}
          >
            <svg width="30" height="26" aria-hidden="true"
              >{#if c.state === 'absent'}<path class="bus" d="M15 0V26" />{#if c.odd}<path
                    class="gap"
                    d="M7 13h5M18 13h5"
                  />{/if}{:else}<path class="bus" d="M15 0V26" /><path
                  class="stub"
                  d="M0 13H15"
                />{#if c.state === 'carried'}<path
                    class="joint"
                    d="M11 8.500h7l2.500 4-1.500 5.500h-7l-2-5z"
                  />{:else if c.state === 'down'}<path
                    class="crack"
                    d="M9 7l12 12M21 7L9 19"
                  />{:else}<path
                    class="hollow"
                    d="M11 8.500h7l2.500 4-1.500 5.500h-7l-2-5z"
                  />{/if}{/if}</svg
            >
            <span class="words mono"
              >{#if c.state === 'absent'}{c.odd
                  ? 'missing'
                  : ''}{:else}{c.port}{#if c.odd && c.state === 'carried'}<b>MTU {c.mtu}</b
                  >{:else if c.state !== 'carried'}<b>{WORDS[c.state]}</b
                  >{:else if c.mtu !== 1500}<i>{c.mtu}</i>{/if}{#if c.address && !c.odd}<i>addr</i
                  >{/if}{/if}</span
            ></span
          >{/each}
      </div>
    {/each}
  {/each}
</div>

<style>
  .head-line {
    padding: 8px 0;
  }
  .name {
    display: block;
    border: 0;
    background: none;
    padding: 0;
    color: var(--ink);
    font-weight: 600;
    cursor: pointer;
    text-decoration: underline;
    text-underline-offset: 3px;
  }
  .nets {
    font-size: var(--text-s);
    min-width: max-content;
  }
  .row {
    display: grid;
    grid-template-columns: 236px repeat(var(--n), minmax(150px, 1fr));
    align-items: stretch;
  }
  .head {
    position: sticky;
    top: 0;
    background: var(--paper);
    z-index: 1;
    border-bottom: 1px solid var(--strong-line);
  }
  .head > span {
    padding: 4px 8px 4px 0;
    color: var(--muted);
  }
  .net b {
    display: block;
    color: var(--ink);
    font-weight: 600;
  }
  .net.unknown b {
    color: var(--muted);
  }
  .net .mono {
    font-size: 11px;
  }
  .title > span:first-child {
    color: var(--muted);
    padding: 8px 0 2px;
  }
  em {
    font-style: normal;
    color: var(--caution);
    margin-left: 10px;
    font-weight: 600;
  }
  .through {
    background: linear-gradient(var(--strong-line), var(--strong-line)) 14.5px 0 / 1.5px 100%
      no-repeat;
  }
  .who {
    display: flex;
    flex-wrap: wrap;
    gap: 0 8px;
    align-items: center;
    padding: 2px 8px 2px 0;
    max-height: 180px;
    overflow: auto;
    border-top: 1px solid var(--line);
  }
  button {
    border: 0;
    background: none;
    padding: 0;
    cursor: pointer;
    font-weight: 600;
  }
  button:hover {
    color: var(--accent);
  }
  .more {
    font-weight: 400;
    color: var(--muted);
  }
  .cell {
    display: flex;
    align-items: center;
    gap: 6px;
    border-top: 1px solid var(--line);
    min-height: 28px;
    background: linear-gradient(var(--strong-line), var(--strong-line)) 14.5px 0 / 1.5px 100%
      no-repeat;
  }
  .title .cell {
    border: 0;
  }
  svg {
    flex: none;
  }
  .bus {
    stroke: var(--strong-line);
    stroke-width: 1.5;
  }
  .stub {
    stroke: var(--soft);
    stroke-width: 1.5;
  }
  .joint {
    fill: var(--soft);
    stroke: var(--paper);
  }
  .hollow {
    fill: var(--paper);
    stroke: var(--caution);
    stroke-width: 1.6;
  }
  .crack {
    stroke: var(--blocker);
    stroke-width: 2;
  }
  .gap {
    stroke: var(--caution);
    stroke-width: 2.4;
  }
  .words {
    font-size: 11px;
    color: var(--muted);
  }
  .words b {
    color: var(--caution);
    margin-left: 6px;
    font-weight: 600;
  }
  .words i {
    font-style: normal;
    margin-left: 6px;
    color: var(--soft);
  }
  .odd.absent .words {
    color: var(--caution);
    font-weight: 600;
  }
  .down .words b {
    color: var(--blocker);
  }
</style>
