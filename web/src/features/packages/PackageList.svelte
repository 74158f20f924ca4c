<script lang="ts">
  import type { PackageItem } from '../../lib/api/types';
  import { count, middle, moment, size, utc } from '../../lib/format';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import { KIND, mark, SIGNED, WHOLE } from './trustwords';

  interface Props {
    list: PackageItem[];
  }
  let { list }: Props = $props();
  let filter = $state('');
  let found = $derived(
    list.filter((p) =>
      `${p.product} ${p.version} ${p.vendor} ${p.channel} ${p.kind} ${p.file_name} ${p.plans.join(' ')}`
        .toLowerCase()
        .includes(filter.toLowerCase()),
    ),
  );
  let products = $derived(
    [...new Set(found.map((p) => p.product))].map(
      (name) => [name, found.filter((p) => p.product === name)] as const,
    ),
  );
  let most = $derived(Math.max(1, ...list.map((p) => Math.sqrt(p.full_bytes || p.size))));
  const width = (bytes: number) => `${Math.max(2, (100 * Math.sqrt(bytes)) / most)}%`;
</script>

{#if list.length > 6}<label class="filter"
    >Filter <input bind:value={filter} placeholder="product, version, channel, plan" /><span
      class="quiet">{found.length === list.length ? '' : `${found.length} of ${list.length}`}</span
    ></label
  >{/if}
<div class="products">
  {#each products as [product, versions] (product)}
    <section aria-label={product} style:--columns={Math.min(3, versions.length)}>
      <header>
        <h2>{product}</h2>
        <span class="quiet"
          >{[
            versions[0]?.vendor,
            versions[0]?.kits.length
              ? `deployable by kit ${versions[0].kits.join(', ')}`
              : versions[0]?.unusable || versions[0]?.lacks,
          ]
            .filter(Boolean)
            .join(' · ')}</span
        >
      </header>
      <ul>
        {#each versions as p, i (p.sha256)}
          <li>
            <a href={`/packages/${p.sha256}`} title={p.file_name}>
              <span class="head"
                ><StateMark state={mark(p.manifest, p.signature)} size={15} /><b
                  >{middle(p.version, 20)}</b
                >{#if p.channel}<i class="channel">{p.channel}</i>{/if}{#if p.cautions}<i
                    class="cautions">{count(p.cautions, 'caution')}</i
                  >{/if}</span
              >
              <span class="bytes" title="thin inside full; lengths by square root"
                ><i class="full" style:width={width(p.full_bytes || p.size)}></i><i
                  class="thin"
                  style:width={width(p.thin_bytes || p.size)}
                ></i></span
              >
              <span class="mono"
                >{p.full_bytes
                  ? `${size(p.thin_bytes)} thin · ${size(p.full_bytes)} full`
                  : size(p.size)}</span
              >
              <span class="quiet">{KIND[p.kind]}, {WHOLE[p.manifest]}, {SIGNED[p.signature]}</span>
              <span class="quiet" title={utc(p.added_at)}
                >{p.plans.length ? `in ${middle(p.plans.join(', '), 34)}` : 'in no plan'} · {moment(
                  p.added_at,
                )}</span
              >
            </a>
            {#if versions[i + 1]}<a
                class="compare"
                href={`/packages/compare?old=${versions[i + 1]!.sha256.slice(0, 16)}&new=${p.sha256.slice(0, 16)}`}
                >what changed since {middle(versions[i + 1]!.version, 12)}</a
              >{/if}
          </li>
        {/each}
      </ul>
    </section>
  {:else}{#if filter}<p class="quiet none">No package matches “{filter}”.</p>{/if}{/each}
</div>

<style>
  .filter {
    display: flex;
    gap: 10px;
    align-items: center;
    padding: 10px 0 0;
    font-size: var(--text-s);
  }
  .filter input {
    width: 320px;
  }
  /* A product takes as many columns as it has versions, so that lengths can be compared. */
  .products {
    display: grid;
    grid-template-columns: repeat(3, minmax(0, 1fr));
    gap: 0 26px;
  }
  section {
    padding: 16px 0 4px;
    grid-column: span var(--columns);
    min-width: 0;
  }
  @media (max-width: 900px) {
    .products {
      grid-template-columns: minmax(0, 1fr);
    }
    section {
      --columns: 1 !important;
    }
  }
  header {
    display: flex;
    gap: 14px;
    align-items: baseline;
    border-bottom: 1px solid var(--strong-line);
    padding-bottom: 3px;
  }
  h2 {
    font-size: var(--text-l);
    font-weight: 600;
    white-space: nowrap;
  }
  header span {
    font-size: var(--text-s);
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 10px 0 0;
    display: grid;
    grid-template-columns: repeat(var(--columns), minmax(0, 1fr));
    gap: 12px 26px;
  }
  li > a:first-child {
    display: grid;
    gap: 3px;
    color: var(--ink);
    text-decoration: none;
    padding: 8px 12px 9px;
    background: var(--surface);
    clip-path: polygon(7px 0, 100% 0, 100% calc(100% - 9px), calc(100% - 9px) 100%, 0 100%, 0 7px);
    border-left: 4px solid var(--role-1);
  }
  li > a:first-child:hover,
  li > a:first-child:focus-visible {
    background: var(--accent-wash);
    border-left-color: var(--accent);
  }
  .head {
    display: flex;
    gap: 8px;
    align-items: center;
  }
  .head b {
    font-size: 16px;
    font-weight: 600;
  }
  .channel {
    font-style: normal;
    font-size: var(--text-xs);
    border: 1px solid var(--strong-line);
    border-radius: var(--radius);
    padding: 0 6px;
  }
  .cautions {
    font-style: normal;
    font-size: var(--text-xs);
    color: var(--caution);
  }
  .bytes {
    position: relative;
    height: 12px;
    display: block;
  }
  .bytes i {
    position: absolute;
    top: 0;
    left: 0;
    height: 100%;
  }
  .full {
    border: 1px solid var(--strong-line);
  }
  .thin {
    background: var(--role-1);
  }
  .quiet {
    font-size: var(--text-s);
  }
  .compare {
    font-size: var(--text-s);
    display: inline-block;
    padding: 3px 12px;
  }
  .none {
    padding: 20px 0;
  }
</style>
