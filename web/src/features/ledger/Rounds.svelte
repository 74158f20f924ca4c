<script lang="ts">
  /** The newest round of checks beside the one before it. */
  import { get } from '../../lib/api/client';
  import type { RoundsView, RunView } from '../../lib/api/types';
  import { inside, moment, utc } from '../../lib/format';
  import Section from './Section.svelte';

  interface Props {
    run: RunView;
    onproof: (key: string) => void;
  }
  let { run, onproof }: Props = $props();
  let rounds = $state<RoundsView | null>(null);
  let names = $derived(new Map(run.nodes.map((n) => [n.id, n.name])));
  $effect(() => {
    if (!run.proved_at) return;
    get(`/runs/${run.id}/acceptance`)
      .then((found) => {
        rounds = found;
      })
      .catch(() => undefined); // the newest round is shown without
  });
</script>

{#if rounds?.before}
  <Section
    title="Since the round before"
    aside={rounds.changed.length ? `${rounds.changed.length} changed` : 'no change'}
  >
    <p class="quiet" title={utc(rounds.before)}>Compared with {moment(rounds.before)}.</p>
    <ul>
      {#each rounds.changed as one (one.node + one.check)}<li>
          <button onclick={() => onproof(`${one.node}/${one.check}`)}
            ><b>{names.get(one.node) ?? 'cluster'}</b> {inside(one.label)}</button
          >
          <span class:bad={one.now_outcome === 'failed'}
            >{one.was_outcome === one.now_outcome
              ? one.now_outcome
              : `${one.was_outcome} → ${one.now_outcome}`}</span
          >
          <span class="mono quiet">{one.was || 'nothing'} → {one.now || 'nothing'}</span>
        </li>{/each}
      {#each rounds.measured as one (one.node + one.check)}<li>
          <button onclick={() => onproof(`${one.node}/${one.check}`)}
            ><b>{names.get(one.node) ?? 'cluster'}</b> {inside(one.label)}</button
          >
          <span class="mono quiet">{one.was} → {one.now}</span>
        </li>{/each}
    </ul>
  </Section>
{/if}

<style>
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
    font-size: var(--text-s);
  }
  li {
    padding: 2px 0 4px;
    overflow-wrap: anywhere;
  }
  button {
    border: 0;
    background: none;
    padding: 0;
    text-align: left;
    cursor: pointer;
  }
  button:hover {
    color: var(--accent);
  }
  .mono {
    display: block;
  }
  .bad {
    color: var(--blocker);
  }
  p {
    margin: 0 0 4px;
  }
</style>
