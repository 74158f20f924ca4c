<script lang="ts">
  import { ApiError, signIn } from '../../lib/api/client';
  import Button from '../../lib/ui/Button.svelte';
  interface Props {
    onin: () => void;
  }
  let { onin }: Props = $props();
  let field: HTMLInputElement | undefined = $state();
  $effect(() => field?.focus());
  let key = $state(''),
    problem = $state(''),
    busy = $state(false);
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

<main>
  <svg viewBox="0 0 420 250" aria-hidden="true"
    ><g>
      <path d="M10 230V70h76v160z" class="shell" /><path
        d="M104 230V120h76v110z"
        class="shell"
      /><path d="M198 230V20h76v210z" class="shell" /><path d="M292 230V96h76v134z" class="shell" />
      <path
        d="M12 230v-46h72v46zM106 230v-22h72v22zM200 230v-88h72v88zM294 230v-40h72v40z"
        class="rock"
      />
      <path d="M17 152h60l5 5v20l-4 5H18l-4-4v-22z" class="a" /><path
        d="M111 172h60l5 5v24l-5 5h-58l-5-5v-25z"
        class="b"
      /><path d="M205 104h59l6 5v26l-4 5h-62l-3-4v-27z" class="b" /><path
        d="M299 158h61l4 6v18l-5 5h-59l-3-3v-21z"
        class="c"
      /><path d="M0 231h380" class="ground" /></g
    ></svg
  >
  <form
    onsubmit={(e) => {
      e.preventDefault();
      void enter();
    }}
  >
    <h1>Nimble Stone</h1>
    <p class="quiet">Deploy appliances and clusters, and check every node</p>
    <label for="key">Access key</label><input
      id="key"
      bind:this={field}
      aria-invalid={problem ? 'true' : undefined}
      aria-describedby={problem ? 'problem' : undefined}
      class="mono"
      bind:value={key}
      autocomplete="current-password"
      spellcheck="false"
      placeholder="xxxxx-xxxxx-xxxxx-xxxxx-xxxxx"
      required
    />
    {#if problem}<p class="bad" id="problem" role="alert">{problem}</p>{/if}
    <Button kind="main" type="submit" disabled={busy || !key.trim()}
      >{busy ? 'Signing in …' : 'Sign in'}</Button
    >
    <p class="quiet small">
      The access key was printed when the server first started. Lost it? Run: nimble-stone key
    </p>
  </form>
</main>

<style>
  main {
    height: 100%;
    display: flex;
    align-items: center;
    justify-content: center;
    gap: 72px;
    padding: 20px;
    flex-wrap: wrap;
  }
  svg {
    width: 420px;
  }
  .shell {
    fill: var(--surface);
    stroke: var(--line);
  }
  .rock {
    fill: var(--rock);
  }
  .a {
    fill: var(--role-0);
  }
  .b {
    fill: var(--role-1);
  }
  .c {
    fill: var(--role-2);
  }
  .ground {
    stroke: var(--ink);
    stroke-width: 2;
  }
  form {
    display: flex;
    flex-direction: column;
    gap: 8px;
    width: 330px;
    align-items: flex-start;
  }
  h1 {
    font-size: 30px;
    font-weight: 600;
  }
  label {
    margin-top: 14px;
  }
  input {
    width: 100%;
    padding: 9px 12px;
    margin-bottom: 6px;
  }
  .bad {
    color: var(--blocker);
  }
  .small {
    font-size: var(--text-s);
  }
</style>
