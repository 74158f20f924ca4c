<script lang="ts">
  /** How a machine’s controller is logged in to, and the certificate that it is known by. */
  import { get, send } from '../../lib/api/client';
  import type { MachineView } from '../../lib/api/types';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Copy from '../../lib/ui/Copy.svelte';
  import Section from '../ledger/Section.svelte';
  import type { EstateData } from './estate.svelte';

  interface Props {
    one: MachineView;
    data: EstateData;
  }
  let { one, data }: Props = $props();
  let name = $derived(one.machine.name);
  let shown = $state<{ fingerprint: string; subject: string; odd: string } | null>(null);
  const look = () =>
    get(`/estate/machines/${name}/certificate`)
      .then((found) => {
        shown = found;
      })
      .catch((e: unknown) => notices.problem(e));
</script>

<Section title="Controller"
  ><dl>
    <dt>Login</dt>
    <dd>{one.machine.user}, keyring entry “{one.machine.credential}”</dd>
    <dt>Certificate</dt>
    <dd class="mono small">
      {one.fingerprint || 'never pinned'}{#if one.fingerprint}<Copy
          text={one.fingerprint}
          what={`certificate of ${name}`}
        />{/if}
    </dd>
  </dl>
  {#if one.facts.trouble_code === 'certificate-changed' || !one.fingerprint}{#if shown}<p
        class="alarm"
      >
        It now presents a certificate for {shown.subject || 'no name'}{shown.odd
          ? `, which ${shown.odd}`
          : ''}:
      </p>
      <p class="mono small">{shown.fingerprint}</p>
      <div class="acts">
        <Button
          kind="danger"
          onclick={() => {
            shown = null;
            void data.work('pinning', () => send('DELETE', `/estate/machines/${name}/pin`));
          }}>Pin new certificate</Button
        >
      </div>{:else}<Button onclick={() => void look()}>Show the current certificate</Button
      >{/if}{/if}</Section
>

<style>
  .small {
    font-size: 11px;
    overflow-wrap: anywhere;
  }
  .alarm {
    color: var(--blocker);
    font-size: var(--text-s);
  }
  .acts {
    display: flex;
    gap: 8px;
  }
</style>
