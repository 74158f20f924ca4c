<script lang="ts">
  /** What a change removes, its steps, and the name that has to be typed for it. */
  import { get } from '../../lib/api/client';
  import type { ChangesAnswer, PlanView } from '../../lib/api/types';
  import { count, inside, span } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import TypedName from '../../lib/ui/TypedName.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import OnMachines from './OnMachines.svelte';

  interface Props {
    plan: PlanView;
    /** A node to make again; '': what the plan says. */
    again: string;
    /** A host that does not answer and is given up; '': none. */
    lost: string;
    onagree: (removed: string[]) => void;
    onclose: () => void;
  }
  let { plan, again, lost, onagree, onclose }: Props = $props();
  let found = $state.raw<ChangesAnswer | null>(null);
  $effect(() => {
    const asked = lost ? `lost=${encodeURIComponent(lost)}` : `again=${encodeURIComponent(again)}`;
    get(`/plans/${plan.id}/changes?${asked}`)
      .then((answer) => {
        found = answer;
      })
      .catch((e: unknown) => notices.problem(e));
  });
  let blockers = $derived(found?.findings?.filter((one) => one.severity === 'blocker') ?? []);
  let remade = $derived(
    (found?.upgrades ?? []).filter((one) => one.way === 'again').map((one) => one.name),
  );
  let upgraded = $derived(found?.upgrades?.find((one) => one.way === 'again')?.now ?? '');
  let machines = $derived((found?.removes ?? []).filter((one) => one.on_machine));
  let gone = $derived(
    (found?.removes ?? []).filter((one) => !one.on_machine).map((one) => one.name),
  );
  let many = $derived(gone.length > 1);
  let added = $derived(new Set(found?.adds?.map((one) => one.node)));
  /** What is made again is what was deleted, as a rule. */
  let created = $derived.by(() => {
    if (remade.length < gone.length) return `${remade.length} of them`;
    return many ? 'them' : 'it';
  });
  let title = $derived.by(() => {
    if (lost) return `${lost} is lost`;
    return again ? 'Make a node again' : 'Change the deployment';
  });
  let goes = $derived.by(() => {
    if (lost) return 'Make them again elsewhere';
    return again ? 'Make it again' : 'Check and change';
  });
  let elsewhere = $derived(
    (found?.adds ?? []).map((one) => `${one.name} on ${one.host || 'no host'}`).join(', '),
  );
</script>

<Dialog {title} {onclose}>
  {#if !found}<p class="quiet">Looking at what is deployed …</p>
  {:else}
    {#if lost}<p>
        {lost} does not answer. If it is lost for good, its nodes are made again elsewhere under the same
        names and addresses: {elsewhere}.
      </p>
      {#if machines.length}<p>
          What was written stays on the drives of {lost}; what only they hold is lost. If {lost} starts
          again, it has the same addresses: keep it off the network until its drives are wiped.
        </p>
      {:else}<p>
          VMs and disks stay on {lost}; what only they hold is lost. If {lost} starts again, its VMs may
          start with the same addresses: keep it off the network until they are deleted there.
        </p>{/if}
    {:else if gone.length}<p>
        {#if again}Deletes the VM of {gone.join(', ')} with its disks, then makes it again under the same
          name and address. Data on its disks is lost.{:else}Deletes {count(gone.length, 'VM')} with
          {many ? 'their' : 'its'} disks. A rollback does not bring {many ? 'them' : 'it'} back.
          {#if remade.length}Then creates {created} again from
            {upgraded}.{/if}{/if}
      </p>
      {#if !again}<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
        <div class="scroll" tabindex="0" role="group" aria-label="VMs that are deleted">
          <ul class="mono">
            {#each gone as name (name)}<li>{name}</li>{/each}
          </ul>
        </div>{/if}{/if}
    {#if !lost}<OnMachines nodes={machines} {added} />{/if}
    {#each blockers as one, i (i)}<p class="blocker">
        <Weight severity={one.severity} /><span
          >{one.message} <span class="quiet">{one.remedy?.label ?? ''}</span></span
        >
      </p>{/each}
    <details>
      <summary
        >{count(found.steps?.length ?? 0, 'step')}, about {span(found.forecast_s ?? 0)}</summary
      >
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <div class="scroll" tabindex="0" role="group" aria-label="Steps">
        <ol>
          {#each found.steps ?? [] as step (step.key)}<li>
              <span class="mono">{step.node || step.host}</span>
              {inside(step.label)}
            </li>{/each}
        </ol>
      </div>
    </details>
    <TypedName
      wanted={plan.id}
      label={goes}
      busy={blockers.length > 0}
      ongo={() => onagree(found?.removes?.map((one) => one.node) ?? [])}
      {onclose}
    />
  {/if}
</Dialog>

<style>
  p {
    margin: 0 0 8px;
  }
  .blocker {
    display: flex;
    gap: 8px;
  }
  .scroll {
    max-height: 180px;
    overflow: auto;
  }
  ul {
    list-style: none;
    margin: 0 0 10px;
    padding: 0;
    display: grid;
    grid-template-columns: repeat(auto-fill, minmax(150px, 1fr));
    gap: 0 12px;
    font-size: var(--text-s);
  }
  li {
    overflow-wrap: anywhere;
  }
  details {
    font-size: var(--text-s);
    margin-bottom: 10px;
  }
  ol {
    margin: 6px 0 0;
    padding-left: 22px;
  }
</style>
