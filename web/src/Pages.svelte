<script lang="ts">
  /** The page of an address, fetched when it is first opened. */
  import Later from './lib/ui/Later.svelte';
  import Waiting from './lib/ui/Waiting.svelte';
  import { router } from './lib/router.svelte';
  import { pages } from './pages';

  let { place, plan }: { place: string; plan: string } = $props();
  let reading = $derived.by((): 'plan' | 'run' | 'acceptance' => {
    const asked = router.parts[2];
    return asked === 'run' || asked === 'acceptance' ? asked : 'plan';
  });
  const PLAIN = new Map([
    ['', pages.overview],
    ['estate', pages.estate],
    ['keyring', pages.keyring],
    ['plans', pages.plans],
    ['runs', pages.runs],
  ] as const);
  let load = $derived(PLAIN.get(place as ''));
</script>

{#if plan}{#key plan}<Later load={pages.rollout} id={plan} {reading} />{/key}
{:else if place === 'packages'}<Later load={pages.packages} sha={router.parts[1]} />
{:else if place === 'kits'}<Later load={pages.kits} ident={router.parts[1] ?? ''} />
{:else if place === 'help'}<Later load={pages.help} name={router.parts[1] ?? 'guide'} />
{:else if load}{#await load()}<Waiting />{:then { default: Page }}<Page />{:catch}<Waiting
      failed
    />{/await}
{:else}<div class="empty">
    <h1>Page not found.</h1>
    <a href="/plans">All plans</a>
  </div>{/if}

<style>
  .empty {
    padding: 60px 20px;
  }
</style>
