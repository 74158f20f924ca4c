<script lang="ts">
  /** A run that waits may take over the kit as it was corrected since it began. */
  import { get } from '../../lib/api/client';
  import type { KitOffer, RunView } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';

  interface Props {
    run: RunView;
    ontake: () => void;
  }
  let { run, ontake }: Props = $props();
  let waits = $derived(run.state === 'trouble' || run.state === 'held');
  let offer = $state<KitOffer>({ parts: [], refused: [] });
  let told = $derived(
    offer.refused.length
      ? `Cannot be taken over: ${offer.refused.join('; ')}`
      : `Corrected since the run began: ${offer.parts.join(', ')}`,
  );
  $effect(() => {
    // asked again whenever the run moves, and when somebody comes back from the kit's page
    void run.last_event;
    if (!waits) return;
    const look = () =>
      get(`/runs/${run.id}/kit`)
        .then((found) => {
          offer = found;
        })
        .catch(() => undefined); // the run works without
    void look();
    addEventListener('focus', look);
    return () => removeEventListener('focus', look);
  });
</script>

{#if waits && offer.parts.length}<Button
    disabled={offer.refused.length > 0}
    title={told}
    onclick={ontake}>Take over corrected kit</Button
  >{/if}
