<script lang="ts">
  /** How much is done at once, over all runs and host preparation. */
  import { get, send } from '../../lib/api/client';
  import type { RunLimits } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';

  let kept = $state.raw<RunLimits | null>(null);
  let overall = $state(0);
  let host = $state(0);
  let store = $state(0);
  let changed = $derived(
    kept !== null &&
      (overall !== kept.overall || host !== kept.per_host || store !== kept.per_datastore),
  );

  function take(found: RunLimits) {
    kept = found;
    overall = found.overall;
    host = found.per_host;
    store = found.per_datastore;
  }
  $effect(() => {
    get('/limits')
      .then(take)
      .catch((e: unknown) => notices.problem(e));
  });
  async function save() {
    try {
      const body = { overall, per_host: host, per_datastore: store };
      take(await send('PUT', '/limits', body));
    } catch (error) {
      notices.problem(error);
    }
  }
</script>

{#if kept}
  <form
    onsubmit={(e) => {
      e.preventDefault();
      void save();
    }}
  >
    <p class="quiet">
      These limits hold over all runs and host preparation together. The run with the fewest running
      steps goes first. Waits for booting VMs do not count.
    </p>
    <label
      >Steps at once, overall <input type="number" min="1" max="500" bind:value={overall} /></label
    >
    <label>On one host <input type="number" min="1" max="64" bind:value={host} /></label>
    <label>On one datastore <input type="number" min="1" max="64" bind:value={store} /></label>
    <Button kind="main" type="submit" disabled={!changed}>Save limits</Button>
    {#if kept.shares.length}
      <ul>
        {#each kept.shares as one (one.run)}<li>
            <span class="mono">{one.run}</span>
            {count(one.working, 'step')} working, {one.queued} queued
          </li>{/each}
      </ul>
    {:else}<p class="quiet">No run in progress.</p>{/if}
  </form>
{/if}

<style>
  form {
    display: grid;
    gap: 10px;
    justify-items: start;
    padding: 12px 6px;
    max-width: 520px;
    font-size: var(--text-s);
  }
  label {
    display: grid;
    grid-template-columns: 190px 90px;
    align-items: baseline;
  }

  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
</style>
