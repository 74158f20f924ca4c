<script lang="ts">
  /** A host's datastores: how full, what protects them, which VMs are on them. */
  import type { OneHost } from '../../lib/api/types';
  import { count, size } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';

  let { one, onadd }: { one: OneHost; onadd: () => void } = $props();
  let f = $derived(one.facts);
  const users = (store: string) =>
    f.guests?.filter((g) => g.disks?.some((d) => d.startsWith(`${store}/`))) ?? [];
  const care = (store: { name: string; shared?: string }) =>
    one.cares.find((c) => c.place === (store.shared || `${one.host.name}/${store.name}`));
</script>

<section>
  <h2>Datastores</h2>
  {#each f.datastores ?? [] as s (s.name)}{@const c = care(s)}
    <div class="store" class:asleep={!s.active}>
      <p>
        <b>{s.name}</b>
        <span class="quiet">{s.shared || s.path}{c?.protection ? ` · ${c.protection}` : ''}</span>
      </p>
      <div class="tank" title={`${size(s.free_bytes)} of ${size(s.capacity_bytes)} free`}>
        <i style:width={`${100 - (100 * s.free_bytes) / Math.max(1, s.capacity_bytes)}%`}></i><em
          style:left={`${100 * (c?.watermark ?? 0.85)}%`}
        ></em>
      </div>
      <p class="mono">
        {s.active
          ? `${size(s.free_bytes)} free of ${size(s.capacity_bytes)}`
          : 'not started'}{users(s.name).length ? ` · ${count(users(s.name).length, 'VM')}` : ''}
      </p>
    </div>{:else}<p class="quiet">
      No datastores. <Button kind="link" onclick={onadd}>Add one</Button>
    </p>{/each}
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
  .store {
    margin-bottom: 8px;
    font-size: var(--text-s);
  }
  .store p {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .tank {
    position: relative;
    height: 14px;
    border: 1px solid var(--strong-line);
    background: var(--surface);
  }
  .tank i {
    display: block;
    height: 100%;
    background: repeating-linear-gradient(45deg, var(--rock) 0 4px, var(--hatch) 4px 5px);
  }
  .tank em {
    position: absolute;
    top: -3px;
    bottom: -3px;
    border-left: 1px dashed var(--ink);
  }
  .asleep {
    opacity: 0.6;
  }
</style>
