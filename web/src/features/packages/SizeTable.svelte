<script lang="ts">
  /** Sizes side by side: memory as a stone, vCPUs as notches in it, what each carries. `before` are another version's sizes, drawn behind. */
  import type { PackageView } from '../../lib/api/types';
  import { size } from '../../lib/format';

  interface Props {
    sizes: PackageView['sizes'];
    thin: number;
    full: number;
  }
  let { sizes, thin, full }: Props = $props();
  let most = $derived(Math.max(1, ...sizes.map((s) => s.memory_bytes)));
</script>

<table>
  <thead
    ><tr
      ><th scope="col">Size</th><th scope="col" class="r">vCPU</th><th scope="col" class="r"
        >memory</th
      ><th scope="col" class="wide">memory, a notch per vCPU</th><th scope="col" class="r"
        >disk thin</th
      ><th scope="col" class="r">full</th><th scope="col">capacity</th></tr
    ></thead
  >
  <tbody>
    {#each sizes as s (s.id)}
      <tr
        ><th scope="row" title={s.description}
          >{s.label}{#if s.default}<span class="quiet">, default</span>{/if}</th
        ><td class="mono r">{s.vcpu}</td><td class="mono r">{size(s.memory_bytes)}</td>
        <td class="stone"
          ><svg width="100%" height="18" preserveAspectRatio="none" aria-hidden="true"
            ><rect
              width={`${(100 * s.memory_bytes) / most}%`}
              height="18"
              class="body"
            />{#each { length: Math.min(64, s.vcpu - 1) } as _, i (i)}<line
                x1={`${((i + 1) / s.vcpu) * ((100 * s.memory_bytes) / most)}%`}
                x2={`${((i + 1) / s.vcpu) * ((100 * s.memory_bytes) / most)}%`}
                y1="9"
                y2="18"
                class="notch"
              />{/each}</svg
          ></td
        >
        <td class="mono r">{size(thin)}</td><td class="mono r">{size(full)}</td><td
          >{s.carries || s.description || '—'}</td
        ></tr
      >
    {/each}
  </tbody>
</table>

<style>
  table {
    border-collapse: collapse;
    width: 100%;
    font-size: var(--text-s);
  }
  th,
  td {
    text-align: left;
    padding: 5px 14px 5px 0;
    border-bottom: 1px solid var(--line);
    vertical-align: middle;
  }
  thead th {
    color: var(--muted);
    font-weight: 400;
    padding-top: 0;
  }
  tbody th {
    font-weight: 600;
    white-space: nowrap;
  }
  th span {
    font-weight: 400;
  }
  .r {
    text-align: right;
    white-space: nowrap;
  }
  .stone,
  .wide {
    width: 34%;
  }
  svg {
    display: block;
  }
  .body {
    fill: var(--role-1);
  }
  .notch {
    stroke: var(--paper);
    stroke-width: 2;
  }
</style>
