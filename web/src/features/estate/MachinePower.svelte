<script lang="ts">
  /** A machine’s power: what its controller offers, confirmed by the machine’s name. */
  import { send } from '../../lib/api/client';
  import type { Body } from '../../lib/api/paths';
  import type { MachineView } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';
  import type { EstateData } from './estate.svelte';

  interface Props {
    name: string;
    facts: MachineView['facts'];
    data: EstateData;
  }
  let { name, facts: f, data }: Props = $props();
  type Kind = Body<'post', `/estate/machines/${string}/power`>['kind'];
  let request = $state<Kind | ''>(''),
    typed = $state('');
  const WORDS: Record<Kind, string> = {
    On: 'Power on',
    GracefulShutdown: 'Shut down',
    ForceOff: 'Power off (hard)',
    ForceRestart: 'Restart (hard)',
    GracefulRestart: 'Restart',
    PowerCycle: 'Power cycle',
  };
  let offered = $derived(
    (Object.keys(WORDS) as Kind[])
      .filter((k) => !f.resets?.length || f.resets.includes(k))
      .filter((k) => (f.power === 'On') !== (k === 'On')),
  );
  async function go() {
    const kind = request,
      confirmed = typed;
    if (
      kind &&
      (await data.work('switching', () =>
        send('POST', `/estate/machines/${name}/power`, { kind, confirmed }),
      ))
    ) {
      request = '';
      typed = '';
    }
  }
</script>

<Section title="Power" aside={f.power ?? ''}
  >{#if request}<form
      onsubmit={(e) => {
        e.preventDefault();
        void go();
      }}
    >
      <p>
        {WORDS[request]}: everything on {name}
        {request === 'On' ? 'starts' : 'stops'}.
      </p>
      <label
        >Type <b class="mono">{name}</b> to confirm
        <input class="mono" bind:value={typed} autocomplete="off" /></label
      >
      <div class="acts">
        <Button kind="danger" type="submit" disabled={typed !== name || data.busy !== ''}
          >{data.busy === 'switching' ? 'Waiting for the controller …' : WORDS[request]}</Button
        ><Button
          onclick={() => {
            request = '';
            typed = '';
          }}>Cancel</Button
        >
      </div>
    </form>
  {:else}<div class="acts">
      {#each offered as k (k)}<Button
          disabled={data.busy !== ''}
          onclick={() => {
            request = k;
            typed = '';
          }}>{WORDS[k]} …</Button
        >{/each}
    </div>{/if}</Section
>

<style>
  form {
    display: grid;
    gap: 6px;
    font-size: var(--text-s);
  }
  label {
    display: grid;
    gap: 2px;
  }

  .acts {
    display: flex;
    flex-wrap: wrap;
    gap: 8px;
  }
</style>
