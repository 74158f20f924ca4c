<script lang="ts">
  /** How a machine gets what it boots: virtual media, or the network. */
  import { send } from '../../lib/api/client';
  import type { MachineView } from '../../lib/api/types';
  import Section from '../ledger/Section.svelte';
  import type { EstateData } from './estate.svelte';

  interface Props {
    one: MachineView;
    data: EstateData;
  }
  let { one, data }: Props = $props();
  let name = $derived(one.machine.name);
  let boots = $derived(one.machine.boots ?? 'media');
  const WAYS = [
    ['media', 'virtual media'],
    ['network', 'network'],
  ] as const;
</script>

<Section title="Boots from"
  ><div class="ways" role="radiogroup" aria-label={`What ${name} boots from`}>
    {#each WAYS as [way, label] (way)}<label
        ><input
          type="radio"
          name="boots"
          value={way}
          checked={boots === way}
          disabled={data.busy !== ''}
          onchange={() =>
            void data.work('changing', () =>
              send('PATCH', `/estate/machines/${name}`, { boots: way }),
            )}
        />
        {label}</label
      >{/each}
  </div>
  {#if boots === 'media' && !one.facts.media?.length}<p class="quiet">
      Its controller has no virtual media.
    </p>{/if}</Section
>

<style>
  .ways {
    display: flex;
    gap: 18px;
    font-size: var(--text-s);
  }
  label {
    display: flex;
    gap: 6px;
    align-items: center;
  }
  input {
    accent-color: var(--accent);
  }
  p {
    margin-top: 4px;
    font-size: var(--text-s);
  }
</style>
