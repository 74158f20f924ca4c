<script lang="ts">
  /** Hosts and what was last read of them. */
  import type { EstateView } from '../../lib/api/types';
  import { ago, gib, size, utc } from '../../lib/format';
  import Listing from '../../lib/ui/Listing.svelte';

  interface Props {
    hosts: EstateView['hosts'];
    /** Names of the estate's networks. */
    nets: string[];
    now: number;
    chosen: string;
    onchoose: (name: string) => void;
    onopen: (kind: 'host', name: string) => void;
  }
  let { hosts, nets, now, chosen, onchoose, onopen }: Props = $props();
</script>

<Listing>
  <thead
    ><tr
      ><th>Host</th><th>Bay</th><th>Address</th><th
        class="r"
        title="Below the limit and not used by running VMs; the hypervisor keeps the rest"
        >Memory free</th
      ><th class="r">Threads</th><th>VMs</th>{#each nets as n (n)}<th class="net" title={n}>{n}</th
        >{/each}<th>Datastores free</th><th>Updated</th></tr
    ></thead
  >
  <tbody
    >{#each hosts as h (h.name)}
      <tr class:chosen={chosen === h.name} class:bad={h.trouble}
        ><th scope="row"
          ><button onclick={() => onchoose(h.name)} ondblclick={() => onopen('host', h.name)}
            >{h.name}</button
          ></th
        ><td title={h.rack ? `${h.site}, rack ${h.rack}` : h.site}>{h.bay}</td><td class="mono"
          >{h.address}</td
        >
        <td class="mono r"
          >{gib(Math.max(0, h.limit_bytes - h.bedrock.reduce((a, b) => a + b.memory_bytes, 0)))} of {gib(
            h.limit_bytes,
          )}</td
        ><td class="mono r">{h.threads}</td><td
          >{h.bedrock.length}{h.bedrock.some((b) => b.ours)
            ? `, ${h.bedrock.filter((b) => b.ours).length} ours`
            : ''}</td
        >
        {#each nets as n (n)}<td class="net"
            >{#if h.networks.includes(n)}<svg width="11" height="11" role="img" aria-label="carried"
                ><rect x="1" y="1" width="9" height="9" /></svg
              >{:else}<svg width="11" height="11" role="img" aria-label="not carried"
                ><path d="M2 5.500h7" /></svg
              >{/if}</td
          >{/each}
        <td class="mono">{h.stores.map((s) => size(s.free_bytes)).join(' · ')}</td><td
          class="quiet"
          title={utc(h.read_at)}>{h.trouble ? 'unreachable' : ago(now - h.read_at)}</td
        ></tr
      >
    {/each}</tbody
  >
</Listing>

<style>
  .net {
    text-align: center !important;
    max-width: 66px;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  rect {
    fill: var(--soft);
  }
  path {
    stroke: var(--muted);
    stroke-width: 1.5;
  }
</style>
