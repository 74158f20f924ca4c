<script lang="ts">
  /** The guest as it will be: a block with its disks inside, its interfaces reaching out to the networks they want. */
  import type { PackageView } from '../../lib/api/types';
  import { middle, size } from '../../lib/format';

  interface Props {
    one: PackageView;
  }
  let { one }: Props = $props();
  let nics = $derived(one.nics.slice(0, 10));
  let disks = $derived(one.disks.slice(0, 8));
  let height = $derived(Math.max(46 + disks.length * 24, nics.length * 46 + 22, 96));
  let most = $derived(Math.max(1, ...disks.map((d) => Math.sqrt(d.capacity_bytes))));
</script>

<svg
  width="100%"
  {height}
  role="img"
  aria-label={`A VM with ${disks.length} disks and ${nics.length} interfaces`}
>
  <path d={`M4 4h236l8 8v${height - 22}l-6 6H10l-6-6z`} class="guest" />
  <text x="18" y="26" class="strong">{middle(one.product, 26)}</text>
  {#each disks as d, i (d.id)}
    <g transform={`translate(18 ${40 + i * 24})`}
      ><title>{d.id} {d.file} {d.note}</title>
      <rect
        width={Math.max(6, (90 * Math.sqrt(d.capacity_bytes)) / most)}
        height="15"
        class="disk"
      /><text x="100" y="12" class="small"
        >{d.capacity_bytes ? size(d.capacity_bytes) : 'requested'} · {middle(
          d.note || d.id,
          14,
        )}</text
      ></g
    >
  {/each}
  {#each nics as n, i (i)}
    <g transform={`translate(248 ${24 + i * 46})`}
      ><path d="M0 6h64" class="wire" /><rect x="-6" y="0" width="12" height="12" class="port" />
      <text x="72" y="4" class="strong">{middle(n.network || 'any network', 30)}</text><text
        x="72"
        y="20"
        class="small"
        >{middle(
          `${n.name} · ${n.was && n.was.toLowerCase() !== n.becomes ? `${n.was} becomes ${n.becomes}` : n.becomes}${n.description ? ` · ${n.description}` : ''}`,
          64,
        )}</text
      ></g
    >
  {/each}
  {#if one.nics.length > 10}<text x="320" y={height - 4} class="small"
      >and {one.nics.length - 10} more interfaces</text
    >{/if}
</svg>

<style>
  svg {
    display: block;
  }
  .guest {
    fill: var(--surface);
    stroke: var(--soft);
    stroke-width: 1.5;
  }
  .wire {
    stroke: var(--soft);
    stroke-width: 1.5;
  }
  .port {
    fill: var(--paper);
    stroke: var(--soft);
    stroke-width: 1.5;
  }
  .disk {
    fill: var(--role-1);
  }
  text {
    font: 13px var(--sans);
    fill: var(--ink);
  }
  .strong {
    font-weight: 600;
  }
  .small {
    font-size: 12px;
    fill: var(--muted);
  }
</style>
