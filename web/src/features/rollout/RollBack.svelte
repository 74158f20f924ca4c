<script lang="ts">
  /** What rolling back deletes, and the name that has to be typed for it. */
  import type { RunView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';

  interface Props {
    run: RunView;
    onagree: () => void;
    onclose: () => void;
  }
  let { run, onagree, onclose }: Props = $props();
  let name = $state('');
  let made = $derived(
    run.nodes.filter((node) =>
      run.steps.some(
        (one) => one.node === node.id && one.kind === 'define' && one.state !== 'planned',
      ),
    ),
  );
  let hosts = $derived([...new Set(made.map((node) => node.host))].join(', '));
  /** Bare machines that this run has switched. */
  let machines = $derived(
    run.nodes
      .filter((node) =>
        run.steps.some(
          (one) => one.node === node.id && one.kind === 'medium-boot' && one.state !== 'planned',
        ),
      )
      .map((node) => node.host),
  );
  const nameOf = (id: string) => run.nodes.find((one) => one.id === id)?.name ?? id;
  const begun = (kind: string) =>
    run.steps.filter((one) => one.kind === kind && one.state !== 'planned');
  let resized = $derived(begun('resize').map((one) => nameOf(one.node)));
  let swapped = $derived(begun('swap').map((one) => nameOf(one.node)));
  let moved = $derived(begun('move').map((one) => nameOf(one.node)));
  let set = $derived([
    ...new Set([...begun('change'), ...begun('reconfigure')].map((one) => nameOf(one.node))),
  ]);
  let restarted = $derived(begun('reconfigure').length > 0);
  let grown = $derived(begun('grow').some((one) => one.label.startsWith('Grow')));
  /** Nodes that got disks by this run. */
  let extended = $derived(
    begun('grow')
      .filter((one) => /add disks/i.test(one.label))
      .map((one) => nameOf(one.node)),
  );
  /** What setup steps made in systems outside the plan, in their words. */
  let outside = $derived(
    begun('call')
      .filter((one) => one.state === 'done')
      .map((one) => one.message)
      .filter(Boolean),
  );
  /** Nodes that are hosts of the estate by now. */
  let added = $derived(
    run.steps.filter((one) => one.kind === 'enroll' && one.state !== 'planned').length,
  );
  let what = $derived.by(() => {
    const parts = [];
    if (added) parts.push(`Removes ${count(added, 'host')} from the estate.`);
    if (made.length)
      parts.push(
        `Deletes ${count(made.length, 'VM')} on ${hosts} with ${made.length === 1 ? 'its' : 'their'} disks and config ISOs.`,
      );
    if (machines.length)
      parts.push(
        `Switches ${machines.join(', ')} off; ${machines.length === 1 ? 'its drive keeps' : 'their drives keep'} what was written.`,
      );
    if (resized.length)
      parts.push(
        `Gives ${resized.join(', ')} the vCPUs and memory they had before, each with a restart.`,
      );
    if (swapped.length)
      parts.push(
        `Gives ${swapped.join(', ')} the former system disk again, each with a restart; what the new version wrote on further disks stays.`,
      );
    if (moved.length)
      parts.push(
        `Moves ${moved.join(', ')} back to where it was, with all its disks and a restart.`,
      );
    if (set.length)
      parts.push(
        `Gives ${set.join(', ')} ${set.length === 1 ? 'its' : 'their'} former settings${restarted ? ', each with a restart' : ''}.`,
      );
    if (extended.length)
      parts.push(
        `Takes the disks that this run added from ${extended.join(', ')}, and deletes them with what is on them.`,
      );
    if (grown) parts.push('Disks that have grown stay as large as they are.');
    if (outside.length)
      parts.push(
        `Removes what was made outside the plan: ${outside[0]}${outside.length > 1 ? `; and ${outside.length - 1} more` : ''}.`,
      );
    if (run.change?.removes.length)
      parts.push('Does not bring back the VMs and disks that this run deleted.');
    if (parts.length) return parts.join(' ');
    return run.change
      ? 'Changes nothing: what was deployed before this run stays as it is.'
      : 'Deletes the disks and config ISOs this run has sent so far.';
  });
  let does = $derived.by(() => {
    if (machines.length && !made.length) return `Switch off ${count(machines.length, 'machine')}`;
    if (made.length) return `Delete ${count(made.length, 'VM')}`;
    return run.change ? 'Roll back' : 'Delete what was sent';
  });
</script>

<Dialog title="Roll back" {onclose}>
  <p>
    {what}
    {#if !run.change || made.length}Only what is tagged with run
      <span class="mono">{run.id}</span> is deleted.{/if} This cannot be undone.
  </p>
  <form
    onsubmit={(e) => {
      e.preventDefault();
      onagree();
    }}
  >
    <label
      >Type the plan’s name to confirm: <b>{run.plan}</b><input
        bind:value={name}
        aria-label="Plan’s name"
        autocomplete="off"
      /></label
    >
    <div class="acts">
      <Button kind="danger" type="submit" disabled={name !== run.plan}>{does}</Button><Button
        onclick={onclose}>Cancel</Button
      >
    </div>
  </form>
</Dialog>

<style>
  input {
    display: block;
    margin: 6px 0 12px;
    width: 100%;
  }
  form {
    margin-top: 12px;
  }
  .acts {
    display: flex;
    gap: 10px;
  }
</style>
