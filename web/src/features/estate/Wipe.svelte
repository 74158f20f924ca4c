<script lang="ts">
  /** Wiping drives of a bare machine: which ones, what they hold, and what has to be typed. */
  import type { MachineView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import DriveChoice from './DriveChoice.svelte';
  import { drivesOf } from './inside';
  import { Request } from './request.svelte';
  import TypedRequest from './TypedRequest.svelte';

  interface Props {
    name: string;
    facts: MachineView['facts'];
    onclose: () => void;
  }
  let { name, facts, onclose }: Props = $props();
  let chosen = $state<string[]>([]),
    typed = $state('');
  let drives = $derived(drivesOf(facts, chosen));
  const request = new Request(() =>
    drives.length
      ? { actions: [{ kind: 'wipe-drives' as const, host: name, drives, confirmed: typed }] }
      : null,
  );
</script>

<Dialog title={`Wipe drives of ${name}`} {onclose}>
  <p class="quiet">
    The machine boots once from the inspection medium and erases all signatures of these drives.
    Data cannot be restored. A drive that is not as listed here is not wiped, and then none is.
  </p>
  <DriveChoice disks={facts.inside?.disks ?? []} bind:chosen />
  <TypedRequest
    {name}
    {request}
    {onclose}
    wanted={drives.length ? `${name} ${count(drives.length, 'drive')}` : ''}
    bind:typed
    label={`Wipe ${count(drives.length, 'drive')}`}
  />
</Dialog>
