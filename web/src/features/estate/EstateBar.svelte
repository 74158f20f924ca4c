<script lang="ts">
  /** The estate in a sentence, and what can be done with all of it. */
  import type { EstateView, FitnessView } from '../../lib/api/types';
  import { count, size } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';

  interface Props {
    estate: EstateView;
    fitness: FitnessView | null;
    /** What is being done, '' nothing. */
    busy: string;
    onadd: () => void;
    onprepare: () => void;
    onread: () => void;
  }
  let { estate, fitness, busy, onadd, onprepare, onread }: Props = $props();
  let bad = $derived([
    ...estate.hosts.filter((h) => h.trouble).map((h) => h.name),
    ...estate.machines.filter((m) => m.facts.trouble).map((m) => m.machine.name),
  ]);
  const freeOf = (h: EstateView['hosts'][number]) =>
    Math.max(0, h.limit_bytes - h.bedrock.reduce((sum, b) => sum + b.memory_bytes, 0));
  let room = $derived(estate.hosts.reduce((sum, h) => sum + freeOf(h), 0));
  let sites = $derived(
    new Set([...estate.hosts.map((h) => h.site), ...estate.machines.map((m) => m.machine.site)])
      .size,
  );
  let hurt = $derived(
    new Set((fitness?.violations ?? []).filter((v) => v.severity !== 'note').map((v) => v.host))
      .size,
  );
  let things = $derived(
    count(estate.hosts.length, 'host') +
      (estate.machines.length ? ` and ${count(estate.machines.length, 'machine')}` : ''),
  );
  let named = $derived(
    bad.length > 3 ? `${bad.slice(0, 2).join(', ')} and ${bad.length - 2} more` : bad.join(', '),
  );
  let reached = $derived(
    bad.length ? `${named} ${bad.length === 1 ? 'is' : 'are'} unreachable` : 'All reachable',
  );
  let doing = $derived(busy.charAt(0).toUpperCase() + busy.slice(1));
</script>

<div class="bar">
  <h1>
    {things} in {count(sites, 'site')}. <b>{reached}</b>{hurt
      ? `, ${hurt} ${hurt === 1 ? 'has' : 'have'} problems`
      : ''}; {size(room)} memory available.
  </h1>
  <div class="doors">
    <Button onclick={onadd}>Add …</Button><Button onclick={onprepare}>Prepare …</Button><Button
      kind="main"
      disabled={busy !== ''}
      onclick={onread}>{busy.startsWith('reading') ? `${doing} …` : 'Refresh all'}</Button
    >
  </div>
</div>

<style>
  .bar {
    display: flex;
    flex-wrap: wrap;
    justify-content: space-between;
    gap: 6px 28px;
    align-items: flex-start;
    padding: 10px 0 8px;
    border-bottom: 1px solid var(--line);
  }
  h1 {
    font-size: var(--text-l);
    flex: 1 1 400px;
  }
  .doors {
    display: flex;
    gap: 8px;
    align-items: center;
  }
</style>
