<script lang="ts">
  /** A network made or changed. What is typed stays until it was taken. */
  import { ApiError, send } from '../../lib/api/client';
  import type { EstateView } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import { fieldsOf, type Fields } from './network';

  type Network = EstateView['networks'][number];
  interface Props {
    network: Network | null;
    onchanged: () => void;
    onclose: () => void;
  }
  let { network, onchanged, onclose }: Props = $props();
  // svelte-ignore state_referenced_locally
  const was = network;
  let typed = $state<Fields>(fieldsOf(was));
  let wrong = $state.raw<ApiError | null>(null),
    busy = $state(false),
    sure = $state(false);
  const FIELDS: {
    id: Exclude<keyof Fields, 'name'>;
    label: string;
    example: string;
    needed?: boolean;
  }[] = [
    { id: 'subnet', label: 'Subnet', example: '10.44.20.0/23', needed: true },
    { id: 'gateway', label: 'Gateway', example: '10.44.20.1', needed: true },
    { id: 'vlan', label: 'VLAN', example: 'untagged' },
    { id: 'mtu', label: 'MTU', example: '1500' },
    { id: 'dns', label: 'DNS servers', example: '10.44.0.5 10.45.0.5' },
    { id: 'ntp', label: 'Time server', example: '10.44.0.5' },
    { id: 'domain', label: 'Domain', example: 'kelda.holm.example' },
    { id: 'dynamic_first', label: 'First DHCP address', example: 'no DHCP' },
    { id: 'dynamic_last', label: 'Last DHCP address', example: 'no DHCP' },
    { id: 'subnet6', label: 'IPv6 subnet', example: 'no IPv6' },
    { id: 'gateway6', label: 'IPv6 gateway', example: 'no IPv6' },
    { id: 'name_server', label: 'Name server for records', example: 'none' },
    { id: 'name_port', label: 'Its port', example: '53' },
    { id: 'name_key', label: 'Its TSIG key', example: 'rollouts' },
    { id: 'name_algorithm', label: 'Key algorithm', example: 'hmac-sha256' },
    { id: 'name_credential', label: 'Key secret in the keyring', example: 'names/kelda' },
  ];
  async function go(work: () => Promise<unknown>) {
    busy = true;
    try {
      await work();
      onchanged();
      onclose();
    } catch (error) {
      if (error instanceof ApiError) wrong = error;
      else throw error;
    } finally {
      busy = false;
    }
  }
  /** The server names the member that it does not take. */
  const isWrong = (id: string) =>
    wrong?.problem.detail.toLowerCase().startsWith(id.replaceAll('_', ' ')) ?? false;
</script>

<Dialog title={was ? `Network ${was.name}` : 'New network'} {onclose} wide>
  <form
    onsubmit={(e) => {
      e.preventDefault();
      void go(() => send('PUT', '/networks', typed));
    }}
  >
    <label
      >Name, as hosts call it<input
        bind:value={typed.name}
        required
        disabled={was !== null}
        maxlength="60"
        placeholder="survey"
      /></label
    >
    {#each FIELDS as one (one.id)}<label
        >{one.label}<input
          class="mono"
          bind:value={typed[one.id]}
          required={one.needed}
          aria-invalid={isWrong(one.id) ? 'true' : undefined}
          aria-describedby={isWrong(one.id) ? 'wrong' : undefined}
          placeholder={one.example}
          spellcheck="false"
          inputmode={one.id === 'vlan' || one.id === 'mtu' ? 'numeric' : undefined}
        /></label
      >{/each}
    {#if wrong}<p class="wide wrong" id="wrong" role="alert">
        <b>{wrong.problem.detail}</b>
        {wrong.problem.hint}
      </p>{/if}
    <div class="wide acts">
      <Button kind="main" type="submit" disabled={busy}
        >{was ? 'Save network' : 'Create network'}</Button
      >
      {#if was && sure}<Button
          kind="danger"
          disabled={busy}
          onclick={() => void go(() => send('DELETE', `/networks/${was.name}`))}
          >Delete {was.name}</Button
        >{:else if was}<Button
          onclick={() => {
            sure = true;
          }}>Delete network</Button
        >{/if}
      <Button onclick={onclose}>Cancel</Button>
    </div>
  </form>
</Dialog>

<style>
  form {
    display: grid;
    grid-template-columns: repeat(auto-fill, minmax(190px, 1fr));
    gap: 11px 14px;
  }
  label {
    display: grid;
    gap: 3px;
    font-size: var(--text-s);
    color: var(--muted);
    align-content: start;
  }
  .wide {
    grid-column: 1 / -1;
  }
  input {
    font-size: var(--text-s);
    width: 100%;
  }
  input:disabled {
    color: var(--muted);
    border-color: var(--line);
  }
  .acts {
    display: flex;
    gap: 10px;
  }
  .wrong {
    border-left: 3px solid var(--blocker);
    padding: 2px 10px;
    margin: 0;
  }
  b::first-letter {
    text-transform: uppercase;
  }
</style>
