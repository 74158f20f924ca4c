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
    if (run.change?.removes.length)
      parts.push('Does not bring back the VMs and disks that this run deleted.');
    return parts.length
      ? parts.join(' ')
      : 'Deletes the disks and config ISOs this run has sent so far.';
  });
  let does = $derived.by(() => {
    if (machines.length && !made.length) return `Switch off ${count(machines.length, 'machine')}`;
    return made.length ? `Delete ${count(made.length, 'VM')}` : 'Delete what was sent';
  });
</script>

<Dialog title="Roll back" {onclose}>
  <p>
    {what} Only what is tagged with run
    <span class="mono">{run.id}</span> is touched. This cannot be undone.
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
