<script lang="ts">
  import { get } from '../../lib/api/client';
  import type { BalanceView, Edit, PlaceView, PlanView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';
  import Separate from './Separate.svelte';

  interface Props {
    plan: PlanView;
    node: string;
    busy: boolean;
    onedit: (edits: Edit[]) => void;
    ontry: (edits: Edit[] | null) => void;
    onselect: (node: string) => void;
  }
  let { plan, node, busy, onedit, ontry, onselect }: Props = $props();
  let places = $state.raw<PlaceView[]>([]),
    balance = $state.raw<BalanceView | null>(null),
    all = $state(false);
  let own = $derived(plan.nodes.find((n) => n.id === node));
  let bare = $derived(own?.cells['on']?.value === 'machines');
  let onHosts = $derived(plan.nodes.some((n) => n.cells['on']?.value !== 'machines'));
  let place = $derived(bare ? 'machine' : 'host');
  let pinned = $derived(own?.cells['host']?.origin === 'node');
  let fixed = $derived(plan.nodes.filter((n) => n.cells['host']?.origin === 'node'));
  $effect(() => {
    void plan.version;
    get(`/plans/${plan.id}/balance`)
      .then((found) => {
        balance = found;
      })
      .catch((e: unknown) => notices.problem(e));
  });
  $effect(() => {
    void plan.version;
    if (node && node !== '*')
      get(`/plans/${plan.id}/why?node=${encodeURIComponent(node)}`)
        .then((found) => {
          places = found;
        })
        .catch((e: unknown) => notices.problem(e));
    else places = [];
  });
  const pin = (host: string | null): Edit[] => [
    { path: ['nodes', node, 'host'], value: host },
    { path: ['nodes', node, 'datastore'], value: null },
  ];
  const avoid = (hosts: string[]): Edit =>
    ({ path: ['placement', 'avoid'], value: hosts }) as unknown as Edit;
  function evict(host: string) {
    onedit([
      avoid([...plan.avoid, host].sort()),
      ...plan.nodes
        .filter((n) => n.host === host && n.cells['host']?.origin === 'node')
        .flatMap(
          (n) =>
            [
              { path: ['nodes', n.id, 'host'], value: null },
              { path: ['nodes', n.id, 'datastore'], value: null },
            ] as Edit[],
        ),
    ]);
  }
  /** What stood in the field when typing in it began. */
  let was = '';
  const promised = (text: string): Edit[] | null => {
    const n = Number(text);
    return text.trim() !== '' && n >= 1 && n <= 32
      ? [{ path: ['placement', 'overcommit'], value: n }]
      : null;
  };
  const pct = (share: number) => `${Math.round(share * 100)} %`;
  /** The truth about why placement chose the host: it is the evenest; or evener ones carry a node of this plan already; or moving would not pay. */
  let why = $derived.by(() => {
    if (bare) return 'The first suitable machine by name; a node takes a whole machine.';
    const fit = places.filter((p) => p.fits),
      better = fit.slice(
        0,
        Math.max(
          0,
          fit.findIndex((p) => p.here),
        ),
      );
    if (!better.length) return 'Best balanced of the suitable hosts.';
    const taken = new Set(plan.nodes.filter((n) => n.id !== node).map((n) => n.host));
    if (better.every((p) => taken.has(p.host)))
      return 'Less loaded hosts already run a node of this plan; spreading limits the impact of a host failure.';
    return 'Current host; no other host improves balance by 10% or more.';
  });
  let shown = $derived(all ? places : places.slice(0, 8));
  /** A node that is deployed stays where it is. */
  let stays = $derived(
    plan.changes !== null &&
      plan.changes !== undefined &&
      !plan.changes.adds?.some((one) => one.node === node),
  );
  let move = $derived(plan.changes?.moves?.find((one) => one.node === node));
  let reason = $derived.by(() => {
    if (move) return `The next run moves it here from ${move.was_host}.`;
    if (stays && !pinned) return 'Deployed here; it stays unless you move it.';
    if (pinned) return `${bare ? 'Machine' : 'Host'} set manually.`;
    if (own?.host) return why;
    const missing = plan.findings.find((f) => f.code === 'host-missing' && f.node === own?.id);
    return missing?.message ?? '';
  });
</script>

{#if own}
  <Section
    title={`Why is ${own.name} on ${own.host || `no ${place}`}?`}
    aside={pinned ? 'set manually' : 'chosen by placement'}
  >
    <p class="quiet">
      {reason}
      {bare ? 'All machines of the bay:' : `Each host with ${own.short} on it:`}
    </p>
    <ul>
      {#each shown as p (p.host)}
        <li class:here={p.here} class:no={!p.fits}>
          <span class="host">{p.host}</span>
          {#if p.fits}{#if bare}<span>suitable</span><span></span>{:else}<span
                class="bar"
                aria-hidden="true"><i style:width={`${Math.min(100, 100 * p.load)}%`}></i></span
              ><span class="mono right">{pct(p.load)}</span>{/if}
            {#if stays && !pinned && p.here}<span></span>{:else if p.here}<button
                disabled={busy}
                onclick={() => onedit(pin(pinned ? null : p.host))}
                >{pinned ? 'reset' : 'set'}</button
              >{:else}<button disabled={busy} onclick={() => onedit(pin(p.host))}>move</button>{/if}
          {:else}<span class="reason">{p.reason}</span>{/if}
        </li>
      {/each}
    </ul>
    {#if places.length > 8}<Button
        kind="link"
        onclick={() => {
          all = !all;
        }}>{all ? 'Show the first 8' : `All ${places.length} ${place}s`}</Button
      >{/if}
    {#if own.host}<p>
        <Button kind="link" disabled={busy} onclick={() => evict(own?.host ?? '')}
          >Empty {own.host}: exclude it from this plan</Button
        >
      </p>{/if}
  </Section>
{:else}<p class="quiet">
    Select a node on the wall or in the sheet to see why it is placed there.
  </p>{/if}

{#if onHosts}<Section
    title="Rebalance"
    aside={balance ? `fullest host ${pct(balance.before)}` : ''}
  >
    {#if balance?.moves.length}
      <p>
        {balance.moves.length === 1 ? 'Move this node' : `Move these ${balance.moves.length}`}: the
        fullest host goes from {pct(balance.before)} to <b>{pct(balance.after)}</b>.
        {#if plan.changes}Deployed nodes shut down while they move.{/if}
      </p>
      <ul class="moves">
        {#each balance.moves as m (m.node)}<li>
            <button onclick={() => onselect(m.node)}>{m.name}</button><span>{m.host} → {m.to}</span>
          </li>{/each}
      </ul>
      <Button disabled={busy} onclick={() => balance && onedit(balance.edits)}
        >Make {balance.moves.length === 1
          ? 'this move'
          : `these ${balance.moves.length} moves`}</Button
      >
    {:else}<p class="quiet">Already balanced.</p>{/if}
  </Section>{/if}

<Section title="Placement rules">
  <div class="keeps">
    <label for="survive">Host failures to tolerate</label>
    <select
      id="survive"
      disabled={busy}
      value={String(plan.survive ?? 0)}
      onchange={(e) =>
        onedit([{ path: ['placement', 'survive'], value: Number(e.currentTarget.value) || null }])}
      ><option value="0">none</option><option value="1">any 1</option><option value="2"
        >any 2</option
      ></select
    >
    <label for="overcommit">Max vCPUs per thread</label>
    <input
      id="overcommit"
      inputmode="decimal"
      value={plan.overcommit}
      onfocus={(e) => {
        was = e.currentTarget.value;
      }}
      oninput={(e) => ontry(promised(e.currentTarget.value))}
      onkeydown={(e) => {
        if (e.key === 'Escape') {
          ontry(null);
          e.currentTarget.value = was;
          e.currentTarget.blur();
        }
        if (e.key === 'Enter') e.currentTarget.blur();
      }}
      onchange={(e) => {
        const edits = promised(e.currentTarget.value);
        if (edits && e.currentTarget.value !== was) onedit(edits);
        else {
          ontry(null);
          e.currentTarget.value = was;
        }
      }}
    />
  </div>
</Section>

{#if onHosts || plan.separate?.length}<Separate {plan} {busy} {onedit} />{/if}

{#if fixed.length || plan.avoid.length}
  <Section title="Set manually">
    {#if plan.avoid.length}<p>
        Excluded: {#each plan.avoid as host (host)}<span class="chip"
            >{host}<button
              aria-label={`Use ${host} again`}
              disabled={busy}
              onclick={() => onedit([avoid(plan.avoid.filter((h) => h !== host))])}>×</button
            ></span
          >{/each}
      </p>{/if}
    {#if fixed.length}<p>
        {count(fixed.length, 'node')} pinned. <Button
          kind="link"
          disabled={busy}
          onclick={() =>
            onedit(
              fixed.flatMap((n) => [
                { path: ['nodes', n.id, 'host'], value: null },
                { path: ['nodes', n.id, 'datastore'], value: null },
              ]),
            )}>Reset all to automatic</Button
        >
      </p>{/if}
  </Section>
{/if}

<style>
  ul {
    list-style: none;
    margin: 6px 0;
    padding: 0;
  }
  li {
    display: grid;
    grid-template-columns: 80px 1fr 42px 58px;
    gap: 8px;
    align-items: center;
    padding: 2px 4px;
    font-size: var(--text-s);
    min-height: 24px;
  }
  .here {
    background: var(--accent-wash);
    box-shadow: inset 3px 0 var(--accent);
  }
  .no {
    color: var(--muted);
  }
  .reason {
    grid-column: 2 / -1;
  }
  .host {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .here .host {
    font-weight: 600;
  }
  .bar {
    height: 9px;
    border: 1px solid var(--line);
    background: var(--surface);
  }
  .bar i {
    display: block;
    height: 100%;
    background: var(--role-1);
  }
  .right {
    text-align: right;
  }
  li button {
    border: 0;
    background: none;
    color: var(--accent);
    cursor: pointer;
    text-decoration: underline;
    text-underline-offset: 3px;
    padding: 0;
    text-align: left;
    font-size: var(--text-s);
  }
  .keeps {
    display: grid;
    grid-template-columns: 1fr auto;
    gap: 6px 10px;
    align-items: center;
    font-size: var(--text-s);
  }
  .keeps select,
  .keeps input {
    font-size: var(--text-s);
  }
  .keeps input {
    width: 62px;
    text-align: right;
    font-family: var(--mono);
    justify-self: end;
  }
  .moves li {
    grid-template-columns: 1fr auto;
  }
  p {
    font-size: var(--text-s);
    margin: 0 0 6px;
  }
  .chip {
    border: 1px solid var(--line);
    padding: 0 2px 0 7px;
    margin-right: 5px;
  }
  .chip button {
    border: 0;
    background: none;
    cursor: pointer;
    color: var(--accent);
  }
</style>
