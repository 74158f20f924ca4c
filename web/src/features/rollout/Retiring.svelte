<script lang="ts">
  /** A deployment that is being retired: how many runs are left, what waits, and a way to stop. */
  import { get, send } from '../../lib/api/client';
  import type { RetiringView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';

  let { plan, ongone }: { plan: string; ongone: () => void } = $props();
  const LOOK_MS = 2000;
  let view = $state.raw<RetiringView | null>(null);
  let place = $derived(`/deployments/${plan}/retiring` as const);
  $effect(() => {
    const look = () =>
      get(place).then(
        (found) => {
          const went = view?.asked && !found.asked;
          view = found;
          if (went) ongone();
        },
        () => {},
      );
    void look();
    const timer = setInterval(() => void look(), LOOK_MS);
    return () => clearInterval(timer);
  });
  const stop = () =>
    send('DELETE', place).then(
      (found) => (view = found),
      (e: unknown) => notices.problem(e),
    );
</script>

{#if view?.asked}<Section title="Being retired" aside={`${count(view.left.length, 'run')} left`}>
    <p>
      {#if view.waits}The rollback of run <span class="mono">{view.waits}</span> waits: repair what it
        names, then roll it back again.{:else}Its runs are rolled back, the newest first.{/if}
      {#if view.asked === 'keep-data'}Data disks are kept.{/if}
    </p>
    <p>
      <Button kind="link" onclick={() => void stop()}>Stop retiring</Button>
      <span class="quiet">What is gone stays gone.</span>
    </p>
  </Section>{/if}
