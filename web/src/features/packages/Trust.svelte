<script lang="ts">
  import { ApiError, get, send } from '../../lib/api/client';
  import type { TrustedView } from '../../lib/api/types';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';

  interface Props {
    onclose: () => void;
  }
  let { onclose }: Props = $props();
  let list = $state.raw<TrustedView[] | null>(null);
  let pem = $state(''),
    problem = $state('');
  $effect(() => {
    get('/trust')
      .then((found) => {
        list = found;
      })
      .catch((e: unknown) => notices.problem(e));
  });
  async function add() {
    problem = '';
    try {
      list = await send('POST', '/trust', { pem });
      pem = '';
    } catch (e) {
      problem = e instanceof ApiError ? `${e.problem.detail} ${e.problem.hint}` : String(e);
    }
  }
  async function drop(fingerprint: string) {
    try {
      list = await send('DELETE', `/trust/${encodeURIComponent(fingerprint)}`);
    } catch (e) {
      notices.problem(e);
    }
  }
</script>

<Dialog title="Trusted publishers" wide {onclose}>
  <p class="quiet">
    A package signature is trusted if its certificate is issued by one of these. No other list is
    used.
  </p>
  {#if list}<ul>
      {#each list as t (t.fingerprint)}<li>
          <div>
            <b>{t.subject}</b><span class="mono fp">{t.fingerprint}</span><span class="quiet"
              >valid until {new Date(t.not_after * 1000).toLocaleDateString()}</span
            >
          </div>
          <Button onclick={() => void drop(t.fingerprint)}>Remove</Button>
        </li>{:else}<li class="quiet">
          No trusted publishers. Paste a certificate below after comparing its fingerprint with the
          publisher's.
        </li>{/each}
    </ul>{/if}
  <form
    onsubmit={(e) => {
      e.preventDefault();
      void add();
    }}
  >
    <label
      >Certificate (PEM) <textarea
        bind:value={pem}
        aria-invalid={problem ? 'true' : undefined}
        aria-describedby={problem ? 'trust-problem' : undefined}
        rows="5"
        class="mono"
        placeholder="-----BEGIN CERTIFICATE-----"></textarea></label
    >{#if problem}<p class="alarm" id="trust-problem" role="alert">{problem}</p>{/if}<Button
      kind="main"
      type="submit"
      disabled={!pem.trim()}>Trust publisher</Button
    >
  </form>
</Dialog>

<style>
  p {
    font-size: var(--text-s);
  }
  ul {
    list-style: none;
    margin: 10px 0;
    padding: 0;
  }
  li {
    display: flex;
    justify-content: space-between;
    gap: 16px;
    align-items: center;
    padding: 7px 0;
    border-bottom: 1px solid var(--line);
  }
  li div {
    display: grid;
  }
  .fp {
    font-size: 10.5px;
    overflow-wrap: anywhere;
  }
  span {
    font-size: var(--text-s);
  }
  form {
    display: grid;
    gap: 8px;
    justify-items: start;
  }
  label {
    display: grid;
    gap: 3px;
    width: 100%;
    font-size: var(--text-s);
    color: var(--muted);
  }

  .alarm {
    color: var(--blocker);
  }
</style>
