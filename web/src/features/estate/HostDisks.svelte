<script lang="ts">
  /** A host's disks, and what uses them. */
  import type { OneHost } from '../../lib/api/types';
  import { size } from '../../lib/format';

  let { one }: { one: OneHost } = $props();
  let f = $derived(one.facts);
</script>

<section>
  <h2>Disks</h2>
  <ul class="disks">
    {#each f.disks ?? [] as d (d.path)}<li data-use={d.use}>
        <svg width="26" height="18" aria-hidden="true"
          ><rect x="1" y="2" width="24" height="14" rx="2" /><path
            d={d.rotational
              ? 'M8 9a5 5 0 1 0 10 0a5 5 0 1 0-10 0M13 9h.500'
              : 'M5 6h4v6H5zM11 6h4v6h-4zM17 6h4v6h-4z'}
          /></svg
        ><span
          ><b class="mono">{d.path}</b>
          {size(d.size_bytes)} <span class="quiet">{d.model} {d.bus}</span><br /><span class="use"
            >{d.use === 'free' ? 'free' : d.why || d.use}</span
          ></span
        >
      </li>{:else}<p class="quiet">
        Disks not reported{f.unread?.length ? `: ${f.unread[0]}` : ''}.
      </p>{/each}
  </ul>
</section>

<style>
  section {
    margin-bottom: 18px;
  }
  h2 {
    font-size: var(--text-m);
    font-weight: 600;
    margin-bottom: 6px;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  .disks li {
    display: flex;
    gap: 10px;
    font-size: var(--text-s);
    margin-bottom: 6px;
  }
  .disks svg {
    flex: none;
    margin-top: 2px;
  }
  .disks rect,
  .disks path {
    fill: none;
    stroke: var(--soft);
  }
  [data-use='free'] .use {
    font-weight: 600;
  }
  [data-use='remains'] .use {
    color: var(--caution);
  }
  [data-use='remains'] rect {
    stroke: var(--caution);
    stroke-dasharray: 3 2;
  }
</style>
