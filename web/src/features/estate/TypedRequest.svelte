<script lang="ts">
  /** The end of a dialog whose work cannot be undone: what speaks against it, what has to be typed,
   * and the button that starts it. */
  import Button from '../../lib/ui/Button.svelte';
  import type { Request } from './request.svelte';

  interface Props {
    name: string;
    request: Request;
    /** What has to be typed; '' while nothing is chosen. */
    wanted: string;
    typed: string;
    label: string;
    onclose: () => void;
  }
  let { name, request, wanted, typed = $bindable(), label, onclose }: Props = $props();
  // a field says what has to be typed
  let refusals = $derived(request.refusals().filter((text) => !text.startsWith('type ')));
  let ready = $derived(wanted !== '' && typed === wanted && !refusals.length && request.preview);
</script>

{#each refusals as text (text)}<p class="alarm" role="alert">{name}: {text}</p>{/each}
{#if request.problem}<p class="alarm" role="alert">{request.problem}</p>{/if}
<form
  onsubmit={(e) => {
    e.preventDefault();
    void request.go(onclose);
  }}
>
  {#if wanted}<label
      ><span>Type <b class="mono">{wanted}</b> to confirm</span>
      <input class="mono" bind:value={typed} autocomplete="off" /></label
    >{/if}
  <div class="acts">
    <Button onclick={onclose}>Cancel</Button><Button
      kind="danger"
      type="submit"
      disabled={!ready || request.busy}>{request.busy ? 'Starting …' : label}</Button
    >
  </div>
</form>

<style>
  label {
    display: grid;
    gap: 2px;
    font-size: var(--text-s);
  }
  .alarm {
    color: var(--blocker);
    font-size: var(--text-s);
  }
  .acts {
    display: flex;
    justify-content: flex-end;
    gap: 8px;
    margin-top: 10px;
  }
</style>
