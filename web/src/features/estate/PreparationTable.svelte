<script lang="ts">
  /** Runs that prepared hosts, newest first. */
  import { get } from '../../lib/api/client';
  import type { GroundLine } from '../../lib/api/types';
  import { clock, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Listing from '../../lib/ui/Listing.svelte';

  let { onprepare }: { onprepare: () => void } = $props();
  let ground = $state.raw<GroundLine[] | null>(null);
  const WORDS: Record<string, string> = {
    running: 'running',
    trouble: 'stuck',
    done: 'done',
    undone: 'rolled back',
    held: 'on hold',
    undoing: 'rolling back',
    unproved: 'done, not all refreshed',
  };
  $effect(() => {
    get('/groundwork')
      .then((found) => {
        ground = found;
      })
      .catch((e: unknown) => notices.problem(e));
  });
</script>

{#if ground}{#if !ground.length}<p class="quiet none">
      No preparation runs. <Button kind="link" onclick={() => onprepare()}>Prepare hosts</Button>:
      keys, names, networks, datastores, disks; or fix what the readiness matrix shows.
    </p>
  {:else}<Listing>
      <thead
        ><tr><th>Preparation run</th><th>State</th><th>Hosts</th><th>What</th><th>Started</th></tr
        ></thead
      ><tbody
        >{#each ground as g (g.id)}<tr
            ><th scope="row"><a href={`/estate/groundwork/${g.id}`}>{g.id}</a></th><td
              >{WORDS[g.state] ?? g.state}</td
            ><td class="cut" title={g.hosts}>{g.hosts}</td><td class="cut" title={g.what}
              >{g.what}</td
            ><td class="quiet" title={utc(g.started_at)}>{clock(g.started_at)}</td></tr
          >{/each}</tbody
      >
    </Listing>{/if}
{/if}

<style>
  .none {
    padding: 14px 8px;
  }
  .cut {
    max-width: 240px;
    overflow: hidden;
    text-overflow: ellipsis;
  }
</style>
