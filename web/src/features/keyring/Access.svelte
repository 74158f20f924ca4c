<script lang="ts">
  /** Who can come in: open sessions, and tokens of scripts and the command line. */
  import { get, send } from '../../lib/api/client';
  import type { AccessView, MadeToken } from '../../lib/api/types';
  import { ago, count, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';

  let access = $state.raw<AccessView | null>(null);
  let name = $state('');
  let made = $state.raw<MadeToken | null>(null);

  async function read() {
    try {
      access = await get('/access');
    } catch (error) {
      notices.problem(error);
    }
  }
  $effect(() => void read());
  async function make() {
    try {
      made = await send('POST', '/access/tokens', { name: name.trim() });
      name = '';
      await read();
    } catch (error) {
      notices.problem(error);
    }
  }
  async function revoke(id: string) {
    try {
      access = await send('DELETE', `/access/tokens/${id}`);
    } catch (error) {
      notices.problem(error);
    }
  }
  async function endAll() {
    try {
      await send('DELETE', '/access/sessions');
      location.reload();
    } catch (error) {
      notices.problem(error);
    }
  }
  const used = (at: number | null | undefined) =>
    at ? `used ${ago(Date.now() / 1000 - at)}` : 'never used';
</script>

{#if access}
  <section aria-label="Access">
    <h2>Access</h2>
    <p>
      {count(access.sessions, 'open session')}.
      <Button onclick={() => void endAll()}>End all sessions</Button>
      <span class="quiet">Every browser signs in again; tokens stay.</span>
    </p>
    <ul>
      {#each access.tokens as token (token.id)}
        <li>
          <b>{token.name}</b> <span class="mono quiet">{token.id}</span>
          <span class="quiet" title={utc(token.used_at ?? token.made_at)}
            >{used(token.used_at)}</span
          >
          <Button kind="link" onclick={() => void revoke(token.id)}>Revoke</Button>
        </li>
      {:else}<li class="quiet">No tokens.</li>{/each}
    </ul>
    <form
      onsubmit={(e) => {
        e.preventDefault();
        void make();
      }}
    >
      <input bind:value={name} placeholder="Name of a new token" aria-label="Name of a new token" />
      <Button type="submit" disabled={!name.trim()}>Create token</Button>
      {#if made}<span class="mono made" role="status">{made.token}</span>
        <span class="quiet">Copy it now; it is shown once.</span>{/if}
    </form>
  </section>
{/if}

<style>
  section {
    border-top: 1px solid var(--strong-line);
    padding: 10px 0 16px;
    font-size: var(--text-s);
    flex: none;
  }
  h2 {
    font-size: inherit;
    font-weight: 600;
    margin-bottom: 6px;
  }
  ul {
    list-style: none;
    margin: 8px 0;
    padding: 0;
  }
  li {
    display: flex;
    gap: 12px;
    align-items: baseline;
    padding: 2px 0;
  }
  form {
    display: flex;
    gap: 10px;
    align-items: baseline;
  }

  .made {
    overflow-wrap: anywhere;
  }
</style>
