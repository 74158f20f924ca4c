<script lang="ts">
  /** The end of a dialog about what cannot be undone: a name to type, then the deed, or a way out. */
  import type { Snippet } from 'svelte';
  import Button from './Button.svelte';

  interface Props {
    /** What has to be typed: the plan's name. */
    wanted: string;
    label: string;
    busy: boolean;
    ongo: () => void;
    onclose: () => void;
    /** What may be chosen before. */
    children?: Snippet;
  }
  let { wanted, label, busy, ongo, onclose, children }: Props = $props();
  let typed = $state('');
</script>

<form
  onsubmit={(e) => {
    e.preventDefault();
    if (typed === wanted) ongo();
  }}
>
  {@render children?.()}
  <label
    >Type the plan’s name to confirm: <b>{wanted}</b><input
      bind:value={typed}
      aria-label="Plan’s name"
      autocomplete="off"
    /></label
  >
  <div class="acts">
    <Button kind="danger" type="submit" disabled={busy || typed !== wanted}>{label}</Button><Button
      onclick={onclose}>Cancel</Button
    >
  </div>
</form>

<style>
  form {
    margin-top: 12px;
  }
  input {
    display: block;
    margin: 6px 0 12px;
    width: 100%;
  }
  .acts {
    display: flex;
    gap: 10px;
  }
</style>
