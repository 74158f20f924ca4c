<script lang="ts">
  /** The rows of a table as plans: what each would be, and what it has against it. */
  import type { ManyView } from '../../lib/api/types';
  import { count, size } from '../../lib/format';
  import Weight from '../../lib/ui/Weight.svelte';

  let { answer }: { answer: ManyView } = $props();
  let open = $state('');
</script>

<div class="wide">
  <table>
    <thead
      ><tr
        ><th>Row</th><th>Plan</th><th class="right">Nodes</th><th class="right">Hosts</th><th
          class="right">Memory</th
        ><th>First address</th><th>Findings</th></tr
      ></thead
    >
    <tbody
      >{#each answer.plans as p (p.row)}
        <tr
          ><td class="mono quiet">{p.row}</td><th scope="row">{p.name || '(no name)'}</th><td
            class="mono right">{p.nodes || ''}</td
          ><td class="mono right">{p.hosts || ''}</td><td class="mono right"
            >{p.memory_bytes ? size(p.memory_bytes) : ''}</td
          ><td class="mono">{p.first_address}</td>
          <td
            >{#if p.faults.length}<span class="bad"
                ><Weight severity="blocker" /> {p.faults[0]}</span
              >{:else if p.blockers.length}<button
                class="link"
                aria-expanded={open === p.name}
                onclick={() => {
                  open = open === p.name ? '' : p.name;
                }}
                ><Weight severity="blocker" />
                {count(p.blockers.length, 'blocker')}: {p.blockers[0]?.message}</button
              >{:else if p.cautions}<Weight severity="caution" />
              {count(p.cautions, 'caution')}{:else}no findings{/if}
            {#if open === p.name}<ul>
                {#each p.blockers.slice(1, 8) as f, i (i)}<li>{f.message}</li>{/each}
              </ul>{/if}</td
          ></tr
        >
      {/each}</tbody
    >
  </table>
</div>

<style>
  table {
    width: 100%;
    border-collapse: collapse;
  }
  th,
  td {
    text-align: left;
    padding: 6px 14px 6px 0;
    border-bottom: 1px solid var(--line);
    font-weight: 400;
    vertical-align: top;
  }
  thead th {
    color: var(--soft);
    font-size: var(--text-s);
  }
  tbody th {
    font-weight: 600;
  }
  .right {
    text-align: right;
  }
  .bad {
    color: var(--blocker);
  }
  .link {
    border: 0;
    background: none;
    padding: 0;
    cursor: pointer;
    text-align: left;
    color: var(--ink);
  }
  ul {
    margin: 4px 0 0;
    padding-left: 20px;
    font-size: var(--text-s);
  }
  .wide {
    overflow-x: auto;
  }
</style>
