<script lang="ts">
  /** Versions of the product that are here, and the plans that use them. */
  import type { PackageView } from '../../lib/api/types';
  import { count, middle } from '../../lib/format';

  let { one }: { one: PackageView } = $props();
</script>

<div class="strip" aria-label="Versions">
  {#each one.versions as v (v.sha256)}<span class="version" data-current={v.current}
      >{#if v.current}<b>{v.version}</b>{:else}<a href={`/packages/${v.sha256}`}
          >{middle(v.version, 18)}</a
        >{/if}{#if v.channel}<i>{v.channel}</i>{/if}<span class="quiet"
        >{v.plans.length ? v.plans.join(', ') : 'no plan'}{v.nodes
          ? `, ${count(v.nodes, 'node')} deployed`
          : ''}</span
      >{#if !v.current}<a
          class="diff"
          href={`/packages/compare?old=${(v.added_at < one.added_at ? v : one).sha256.slice(0, 16)}&new=${(v.added_at < one.added_at ? one : v).sha256.slice(0, 16)}`}
          >compare</a
        >{/if}</span
    >{/each}
</div>

<style>
  .strip {
    display: flex;
    gap: 4px 26px;
    flex-wrap: wrap;
    padding: 5px 0;
    border-bottom: 1px solid var(--line);
    font-size: var(--text-s);
  }
  .version {
    display: flex;
    gap: 8px;
    align-items: baseline;
    padding: 1px 0 1px 9px;
    border-left: 4px solid var(--rock);
  }
  .version[data-current='true'] {
    border-color: var(--accent);
  }
  .version i {
    font-style: normal;
    font-size: var(--text-xs);
    border: 1px solid var(--strong-line);
    border-radius: var(--radius);
    padding: 0 5px;
  }
</style>
