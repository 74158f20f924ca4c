<script lang="ts">
  /** Hosts to prepare, by site and bay; a bay’s name chooses all of its hosts. */
  import type { EstateView } from '../../lib/api/types';

  interface Props {
    estate: EstateView;
    chosen: string[];
  }
  let { estate, chosen = $bindable() }: Props = $props();
  let filter = $state('');
  let listed = $derived(
    estate.hosts.filter(
      (h) => !filter || `${h.name} ${h.bay} ${h.site}`.toLowerCase().includes(filter.toLowerCase()),
    ),
  );
  const bays = $derived([...new Set(estate.hosts.map((h) => `${h.site} · ${h.bay}`))]);
  function all(bay: string) {
    const mine = estate.hosts.filter((h) => `${h.site} · ${h.bay}` === bay).map((h) => h.name),
      on = mine.every((n) => chosen.includes(n));
    chosen = on ? chosen.filter((n) => !mine.includes(n)) : [...new Set([...chosen, ...mine])];
  }
</script>

<div class="hosts">
  <input bind:value={filter} placeholder="Filter hosts" aria-label="Filter hosts" />
  <div class="list">
    {#each bays as bay (bay)}{#if listed.some((h) => `${h.site} · ${h.bay}` === bay)}<button
          class="bay"
          onclick={() => all(bay)}>{bay}</button
        >{#each listed.filter((h) => `${h.site} · ${h.bay}` === bay) as h (h.name)}<label
            class="host"
            ><input type="checkbox" value={h.name} bind:group={chosen} /> {h.name}</label
          >{/each}{/if}{/each}
  </div>
</div>

<style>
  .list {
    max-height: 190px;
    overflow: auto;
    border-top: 1px solid var(--line);
    margin-top: 4px;
  }
  .bay {
    border: 0;
    background: none;
    color: var(--muted);
    font-size: var(--text-s);
    padding: 5px 0 1px;
    cursor: pointer;
    display: block;
  }
  .bay:hover {
    color: var(--accent);
  }
  .host {
    display: block;
    font-size: var(--text-s);
  }
  input:not([type='checkbox']) {
    width: 100%;
  }
</style>
