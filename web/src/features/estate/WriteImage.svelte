<script lang="ts">
  /** Writing the disk of a package to a drive of a bare machine. */
  import { get } from '../../lib/api/client';
  import type { MachineView } from '../../lib/api/types';
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
    sha256 = $state(''),
    typed = $state(''),
    failed = $state('');
  let packages = $state.raw<{ sha256: string; title: string }[] | null>(null);
  let drive = $derived(drivesOf(facts, chosen)[0]);
  const request = new Request(() =>
    drive && sha256
      ? {
          actions: [
            { kind: 'write-image' as const, host: name, drive, package: sha256, confirmed: typed },
          ],
        }
      : null,
  );
  get('/packages')
    .then((found) => {
      packages = found.map((p) => ({ sha256: p.sha256, title: `${p.product} ${p.version}` }));
      if (packages.length === 1) sha256 = packages[0]!.sha256;
    })
    .catch((error: unknown) => {
      failed = String(error);
    });
</script>

<Dialog title={`Write an image to ${name}`} {onclose}>
  <p class="quiet">
    The machine boots once from the inspection medium, wipes the drive, writes the package’s disk to
    it and reads it back. What the drive holds is lost. The machine is left off.
  </p>
  <label
    >Package
    <select bind:value={sha256} disabled={!packages?.length}
      >{#if packages?.length}<option value="">Choose …</option
        >{/if}{#each packages ?? [] as p (p.sha256)}<option value={p.sha256}>{p.title}</option
        >{:else}<option value="">{packages ? 'No packages. Import one first.' : 'Loading …'}</option
        >{/each}</select
    ></label
  >
  {#if failed}<p role="alert">{failed}</p>{/if}
  <DriveChoice disks={facts.inside?.disks ?? []} bind:chosen single />
  <TypedRequest
    {name}
    {request}
    {onclose}
    wanted={drive && sha256 ? `${name} 1 drive` : ''}
    bind:typed
    label="Write image"
  />
</Dialog>

<style>
  label {
    display: grid;
    gap: 2px;
    font-size: var(--text-s);
    margin-top: 10px;
  }
  p[role='alert'] {
    color: var(--blocker);
  }
</style>
