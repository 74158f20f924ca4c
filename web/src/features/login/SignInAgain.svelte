<script lang="ts">
  /** The session has ended in the middle of something: sign in here, and what was under way goes on. */
  import { ApiError, signIn } from '../../lib/api/client';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';

  interface Props {
    onin: () => void;
  }
  let { onin }: Props = $props();
  let key = $state('');
  let problem = $state('');
  let busy = $state(false);

  async function enter() {
    busy = true;
    problem = '';
    try {
      await signIn(key);
      onin();
    } catch (error) {
      problem =
        error instanceof ApiError ? `${error.problem.detail} ${error.problem.hint}` : String(error);
    } finally {
      busy = false;
    }
  }
</script>

<Dialog title="Sign in again">
  <p>Your session has ended. What you typed is kept and is sent when you have signed in.</p>
  <form
    onsubmit={(e) => {
      e.preventDefault();
      void enter();
    }}
  >
    <label
      >Access key <input
        class="mono"
        bind:value={key}
        aria-invalid={problem ? 'true' : undefined}
        aria-describedby={problem ? 'again-problem' : undefined}
        autocomplete="current-password"
        spellcheck="false"
        required
      /></label
    >
    {#if problem}<p class="bad" id="again-problem" role="alert">{problem}</p>{/if}
    <Button kind="main" type="submit" disabled={busy || !key.trim()}>Sign in</Button>
  </form>
</Dialog>

<style>
  form {
    display: grid;
    gap: 10px;
    margin-top: 12px;
    justify-items: start;
  }
  label {
    display: grid;
    gap: 3px;
    width: 100%;
  }

  .bad {
    color: var(--blocker);
  }
</style>
