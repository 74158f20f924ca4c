<script lang="ts">
  import { get } from '../../lib/api/client';
  import type { LossView, PlanView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Section from '../ledger/Section.svelte';

  interface Props {
    plan: PlanView;
    lost: string[];
    onlose: (hosts: string[]) => void;
  }
  let { plan, lost, onlose }: Props = $props();
  let losses = $state.raw<LossView[] | null>(null),
    pairs = $state.raw<LossView[] | null>(null);
  const MOST = 10;
  $effect(() => {
    void plan.version;
    void ask();
  });
  async function ask() {
    try {
      losses = await get(`/plans/${plan.id}/headroom`);
      const hosts = losses.slice(0, MOST).map((l) => l.hosts[0]);
      pairs =
        hosts.length > 1
          ? await get(`/plans/${plan.id}/headroom?together=2&hosts=${hosts.join(',')}`)
          : [];
    } catch (error) {
      notices.problem(error);
    }
  }
  let names = $derived(
    (losses ?? [])
      .slice(0, MOST)
      .map((l) => l.hosts[0] ?? '')
      .sort(),
  );
  const of = (a: string, b: string) =>
    a === b
      ? losses?.find((l) => l.hosts[0] === a)
      : pairs?.find((p) => p.hosts.includes(a) && p.hosts.includes(b));
  const chosen = (hosts: string[]) =>
    hosts.length === lost.length && hosts.every((h) => lost.includes(h));
  let shown = $derived(
    lost.length === 2
      ? of(lost[0] ?? '', lost[1] ?? '')
      : losses?.find((l) => l.hosts[0] === lost[0]),
  );
  let worst = $derived((losses ?? []).filter((l) => l.weight === 'broken').length);
  const MARK = { none: '', bent: '◔', broken: '✕' } as Record<string, string>;
  const WORD = { none: 'no impact', bent: 'degraded', broken: 'stops or loses data' } as Record<
    string,
    string
  >;
</script>

{#if losses}
  <Section
    title="Impact of one host failure"
    aside={worst
      ? `${count(worst, 'host')} would stop something`
      : 'no host failure stops anything'}
  >
    <ul>
      {#each losses as l (l.hosts[0])}
        <li>
          <button
            aria-pressed={chosen(l.hosts)}
            onclick={() => onlose(chosen(l.hosts) ? [] : l.hosts)}
            title="Show on the wall"
            ><b data-weight={l.weight}>{MARK[l.weight]} {l.hosts[0]}</b><span
              >{l.words.join('; ') || 'no nodes of this plan'}</span
            >
            <i class="mono"
              >{l.nodes.length ? `${l.fit.length} of ${l.nodes.length} elsewhere` : ''}</i
            ></button
          >
        </li>
      {/each}
    </ul>
  </Section>
  {#if names.length > 1 && pairs?.length}
    <Section
      title="If two hosts fail together"
      aside={losses.length > MOST ? `the ${MOST} worst` : ''}
    >
      <div
        class="matrix"
        style:grid-template-columns={`74px repeat(${names.length}, 1fr)`}
        role="group"
        aria-label="Pairs of hosts"
      >
        <span></span>{#each names as n (n)}<span
            class="top"
            class:upright={names.length > 4}
            title={n}>{n}</span
          >{/each}
        {#each names as a, i (a)}<span class="side" title={a}>{a}</span>
          {#each names as b, j (b)}{@const l = j <= i ? of(a, b) : undefined}
            {#if l}<button
                data-weight={l.weight}
                aria-pressed={chosen(l.hosts)}
                onclick={() => onlose(chosen(l.hosts) ? [] : l.hosts)}
                title={`${l.hosts.join(' + ')}: ${l.words.join('; ') || WORD[l.weight]}`}
                aria-label={`${l.hosts.join(' and ')}: ${WORD[l.weight]}`}>{MARK[l.weight]}</button
              >{:else}<span></span>{/if}
          {/each}{/each}
      </div>
      <p class="quiet">✕ stops or loses data · ◔ degraded. The diagonal is one host alone.</p>
    </Section>
  {/if}
  {#if shown && lost.length}
    <Section title={`Without ${lost.join(' and ')}`}>
      <p>{shown.words.join('; ') || 'No nodes of this plan on this host.'}</p>
      {#if shown.fit.length}<p class="quiet">
          Room elsewhere: {shown.fit.slice(0, 6).join(', ')}{shown.fit.length > 6
            ? ` and ${shown.fit.length - 6} more`
            : ''}
        </p>{/if}
      {#if shown.homeless.length}<p class="quiet">
          Down until the host returns: {shown.homeless.slice(0, 6).join(', ')}{shown.homeless
            .length > 6
            ? ` and ${shown.homeless.length - 6} more`
            : ''}
        </p>{/if}
    </Section>
  {/if}
  {#if !losses.length}<p class="quiet">
      No node has a host yet. Place the nodes to see the impact of each host failure.
    </p>{/if}
{:else}<p class="quiet">Calculating failure impact …</p>{/if}

<style>
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
    max-height: 230px;
    overflow: auto;
  }
  li button {
    display: grid;
    grid-template-columns: 84px 1fr;
    gap: 0 9px;
    width: 100%;
    text-align: left;
    border: 0;
    background: none;
    padding: 3px 4px;
    cursor: pointer;
    font-size: var(--text-s);
    color: var(--ink);
  }
  li button:hover {
    background: var(--accent-wash);
  }
  li [aria-pressed='true'],
  li button[aria-pressed='true'] {
    background: var(--accent-wash);
    box-shadow: inset 3px 0 var(--accent);
  }
  li b {
    font-weight: 600;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  b[data-weight='broken'] {
    color: var(--blocker);
  }
  li i {
    grid-column: 2;
    font-style: normal;
    color: var(--muted);
    font-size: 11.5px;
  }
  .matrix {
    display: grid;
    gap: 2px;
    align-items: center;
    font-size: var(--text-xs);
    max-width: 292px;
  }
  .top,
  .side {
    color: var(--soft);
    overflow: hidden;
    text-overflow: clip;
    white-space: nowrap;
  }
  .top {
    text-align: center;
  }
  .upright {
    writing-mode: vertical-rl;
    transform: rotate(180deg);
    justify-self: center;
    text-align: left;
    max-height: 76px;
    align-self: end;
    padding-top: 3px;
  }
  .matrix button {
    height: 24px;
    border: 1px solid var(--line);
    background: var(--surface);
    cursor: pointer;
    padding: 0;
    font-size: 12px;
    color: var(--ink);
  }
  .matrix [data-weight='bent'] {
    background: var(--caution-wash);
  }
  .matrix [data-weight='broken'] {
    background: var(--blocker-wash);
    color: var(--blocker);
    font-weight: 700;
  }
  .matrix [aria-pressed='true'] {
    outline: 2px solid var(--accent);
    outline-offset: 0;
  }
  p {
    font-size: var(--text-s);
    margin: 5px 0 0;
  }
</style>
