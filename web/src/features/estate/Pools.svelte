<script lang="ts">
  /** Pools drawn address by address: what is free, who holds what, and where the free room lies. */
  import { get } from '../../lib/api/client';
  import type { EstateView, PoolView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import PoolBox from './PoolBox.svelte';
  interface Props {
    filter: string;
    networks: EstateView['networks'];
  }
  let { filter, networks }: Props = $props();
  let open = $state.raw<{ pool: PoolView | null } | null>(null);
  let pools = $state.raw<PoolView[] | null>(null),
    at = $state('');
  $effect(() => {
    get('/pools')
      .then((found) => {
        pools = found;
      })
      .catch((e: unknown) => notices.problem(e));
  });
  const WORD: Record<string, string> = {
    free: 'free',
    excluded: 'excluded of the pool',
    reserved: 'reserved for',
    held: 'assigned to',
    found: 'in use by',
  };
  let shown = $derived(
    (pools ?? []).filter(
      (p) =>
        filter === '' ||
        [p.name, p.network, ...p.members.map((m) => m.by), ...p.members.map((m) => m.address)].some(
          (t) => t.toLowerCase().includes(filter.toLowerCase()),
        ),
    ),
  );
  const KIND: Record<PoolView['kind'], string> = {
    ipv4: 'addresses of',
    ipv6: 'IPv6 addresses of',
    mac: 'MAC addresses',
    number: 'numbers',
  };
  /** Long series are drawn as far as somebody has taken of them, and a row more. */
  const drawn = (p: PoolView) => {
    const last = p.members.findLastIndex((m) => m.state !== 'free');
    return p.members.length <= 600 ? p.members : p.members.slice(0, Math.max(256, last + 65));
  };
  const hit = (m: PoolView['members'][number]) =>
    filter !== '' &&
    (m.by.toLowerCase().includes(filter.toLowerCase()) || m.address.includes(filter));
  const holders = (p: PoolView) => [
    ...p.members
      .filter((m) => m.state === 'held')
      .reduce((all, m) => all.set(m.by, (all.get(m.by) ?? 0) + 1), new Map<string, number>()),
  ];
</script>

<p class="top">
  <Button
    onclick={() => {
      open = { pool: null };
    }}>New pool …</Button
  >{#if pools && !pools.length}<span class="quiet"
      >No pools. A pool assigns addresses of a network, MAC addresses or numbers in order. An estate
      file can bring them too: <span class="mono">nimble-stone estate load FILE</span>.</span
    >{/if}
</p>
{#if open}<PoolBox
    pool={open.pool}
    {networks}
    onchanged={(found) => {
      pools = found;
    }}
    onclose={() => {
      open = null;
    }}
  />{/if}
{#each shown as p (p.name)}
  <section aria-label={`Pool ${p.name}`}>
    <header>
      <h2>
        <button
          class="name"
          onclick={() => {
            open = { pool: p };
          }}
          title="Change this pool">{p.name}</button
        >
      </h2>
      <span class="quiet"
        >{KIND[p.kind]} {p.network} · <span class="mono">{p.first} … {p.last}</span></span
      ><span class="right"
        ><b>{p.free}</b> of {p.size} free{p.free !== p.largest_gap
          ? `, ${p.largest_gap} consecutive`
          : ''}</span
      >
    </header>
    <div
      class="cells"
      role="img"
      aria-label={`${p.free} free, ${p.members.filter((m) => m.state === 'held').length} held, ${p.members.filter((m) => m.state === 'found').length} found in use`}
    >
      {#each drawn(p) as m (m.address)}<i
          data-state={m.state}
          class:hit={hit(m)}
          class:plan={m.state === 'held' && !m.by.includes(', run')}
          class:at={at !== '' && m.by === at}
          title={`${m.address} ${WORD[m.state]} ${m.by}`}
        ></i>{/each}{#if drawn(p).length < p.size}<span class="quiet more"
          >and {p.size - drawn(p).length} more, free</span
        >{/if}
    </div>
    <p>
      {#each holders(p) as [by, n] (by)}<button
          class:at={at === by}
          onmouseenter={() => {
            at = by;
          }}
          onmouseleave={() => {
            at = '';
          }}
          onfocus={() => {
            at = by;
          }}
          onblur={() => {
            at = '';
          }}>{by}: {n}</button
        >{/each}{#if !holders(p).length}<span class="quiet">nothing assigned</span>{/if}
    </p>
  </section>
{/each}
{#if shown.length}<p class="legend quiet">
    <i data-state="held"></i> assigned to a run <i data-state="held" class="plan"></i> assigned to a
    plan
    <i data-state="found"></i>
    found in use on the estate <i data-state="reserved"></i> reserved <i data-state="excluded"></i>
    excluded <i data-state="free"></i> free. No item is assigned twice; {count(
      shown.length,
      'pool',
    )}.
  </p>{/if}

<style>
  .top {
    display: flex;
    gap: 14px;
    align-items: center;
    margin: 8px 0 2px;
  }
  .name {
    border: 0;
    background: none;
    padding: 0;
    font: inherit;
    color: inherit;
    cursor: pointer;
    border-bottom: 1px dotted var(--muted);
  }
  .name:hover {
    color: var(--accent);
  }
  section {
    padding: 10px 0 4px;
    border-bottom: 1px solid var(--line);
  }
  header {
    display: flex;
    gap: 14px;
    align-items: baseline;
    margin-bottom: 7px;
  }
  h2 {
    font-size: inherit;
    font-weight: 600;
    margin: 0;
  }
  .right {
    margin-left: auto;
  }
  .cells {
    display: flex;
    flex-wrap: wrap;
    gap: 2px;
  }
  i {
    display: inline-block;
    width: 12px;
    height: 15px;
    border: 1px solid var(--line);
    background: var(--surface);
  }
  p {
    margin: 6px 0;
    font-size: var(--text-s);
  }
  p button {
    border: 0;
    border-bottom: 1px dotted var(--muted);
    background: none;
    padding: 0;
    margin-right: 16px;
    color: var(--soft);
    font-size: var(--text-s);
  }
  p button.at {
    color: var(--accent);
  }
  [data-state='held'] {
    background: var(--role-1);
    border-color: var(--role-1);
  }
  [data-state='held'].plan {
    background: linear-gradient(135deg, var(--role-1) 50%, var(--surface) 50%);
  }
  [data-state='found'] {
    background: var(--strong-line);
    border-color: var(--strong-line);
  }
  [data-state='reserved'] {
    background: repeating-linear-gradient(90deg, var(--strong-line) 0 2px, transparent 2px 4px);
  }
  [data-state='excluded'] {
    background: linear-gradient(
      135deg,
      transparent 45%,
      var(--strong-line) 45% 58%,
      transparent 58%
    );
  }
  .more {
    font-size: var(--text-s);
    margin-left: 8px;
  }
  .at,
  .hit {
    outline: 2px solid var(--accent);
    outline-offset: 0;
  }
  .legend i {
    margin: 0 3px -3px 10px;
  }
</style>
