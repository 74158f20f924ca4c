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
</script>

<Dialog title="Roll back" {onclose}>
  <p>
    {made.length
      ? `Deletes ${count(made.length, 'VM')} on ${hosts} with ${made.length === 1 ? 'its' : 'their'} disks and config ISOs.`
      : 'Deletes the disks and config ISOs this run has sent so far.'} Only what is tagged with run
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
      <Button kind="danger" type="submit" disabled={name !== run.plan}
        >{made.length ? `Delete ${count(made.length, 'VM')}` : 'Delete what was sent'}</Button
      ><Button onclick={onclose}>Cancel</Button>
    </div>
  </form>
</Dialog>

<style>
  input {
    display: block;
    margin: 6px 0 12px;
    border: 1px solid var(--strong-line);
    background: var(--paper);
    padding: 6px 10px;
    border-radius: var(--radius);
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
