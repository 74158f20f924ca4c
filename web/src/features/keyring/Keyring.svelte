<script lang="ts">
  /** The keyring: whose each entry is, and which plans a person granted it to. Values are never shown. */
  import { get, send } from '../../lib/api/client';
  import type { KeyringEntry, PlanLine } from '../../lib/api/types';
  import { count, utc, ago } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import Access from './Access.svelte';
  import { matching } from './keyring';

  let entries = $state.raw<KeyringEntry[] | null>(null);
  let plans = $state.raw<PlanLine[]>([]);
  let filter = $state('');
  let adding = $state(false);
  let leaving = $state.raw<KeyringEntry | null>(null);
  let name = $state('');
  let value = $state('');
  let kind = $state<'password' | 'key'>('password');
  let shown = $derived(matching(entries ?? [], filter));

  $effect(() => {
    get('/keyring')
      .then((found) => {
        entries = found;
      })
      .catch((e: unknown) => notices.problem(e));
    get('/plans')
      .then((found) => {
        plans = found;
      })
      .catch((e: unknown) => notices.problem(e));
  });

  async function change(work: Promise<KeyringEntry[]>) {
    try {
      entries = await work;
    } catch (e) {
      notices.problem(e);
    }
  }
  const grant = (entry: string, plan: string) =>
    change(send('POST', '/keyring/grants', { entry, plan }));
  const revoke = (entry: string, plan: string) => {
    const query = new URLSearchParams({ entry, plan }).toString();
    return change(send('DELETE', `/keyring/grants?${query}`));
  };
  async function remove(entry: KeyringEntry) {
    await change(send('DELETE', `/secrets/${encodeURIComponent(entry.name)}`));
    leaving = null;
  }
  async function add() {
    try {
      await send('PUT', `/secrets/${encodeURIComponent(name.trim())}`, { kind, value });
      entries = await get('/keyring');
      adding = false;
      name = value = '';
    } catch (e) {
      notices.problem(e);
    }
  }
  const left = (entry: KeyringEntry) => plans.filter((plan) => !entry.plans.includes(plan.id));
  const own = (entry: KeyringEntry, plan: PlanLine) => entry.name.startsWith(`plan/${plan.id}/`);
</script>

<div class="page">
  <div class="bar">
    <h1>
      {#if entries}{count(entries.length, 'entry', 'entries')} in the keyring.{/if}
      <span class="quiet"
        >A plan opens its own entries and those granted to it here. Values are never shown.</span
      >
    </h1>
    <Button
      kind="main"
      onclick={() => {
        adding = true;
      }}>Add entry …</Button
    >
  </div>
  <div class="tools">
    <input bind:value={filter} placeholder="Filter by typing" aria-label="Filter" />
  </div>
  <div class="table">
    <table>
      <thead
        ><tr
          ><th>Entry</th><th>Kind</th><th>Belongs to</th><th>Granted to plans</th><th>Set</th><th
            ><span class="unseen">Actions</span></th
          ></tr
        ></thead
      >
      <tbody>
        {#each shown as e (e.name)}
          <tr>
            <th scope="row" class="mono" title={e.name}>{e.name}</th>
            <td>{e.kind}</td>
            <td>{e.owner}</td>
            <td class="grants">
              {#each e.plans as plan (plan)}
                <span class="given"
                  ><a href={`/plans/${plan}`}>{plan}</a><button
                    aria-label={`Revoke ${e.name} from plan ${plan}`}
                    title={`Revoke from plan ${plan}`}
                    onclick={() => void revoke(e.name, plan)}>revoke</button
                  ></span
                >
              {/each}
              {#if e.grantable && left(e).some((plan) => !own(e, plan))}
                <select
                  aria-label={`Grant ${e.name} to a plan`}
                  onchange={(event) => {
                    void grant(e.name, event.currentTarget.value);
                    event.currentTarget.value = '';
                  }}
                  ><option value="">Grant to …</option
                  >{#each left(e) as plan (plan.id)}{#if !own(e, plan)}<option>{plan.id}</option
                      >{/if}{/each}</select
                >
              {:else if !e.grantable}<span class="quiet">cannot be granted</span>{/if}
            </td>
            <td class="quiet" title={utc(e.made_at)}>{ago(Date.now() / 1000 - e.made_at)}</td>
            <td
              >{#if e.grantable}<Button
                  kind="link"
                  onclick={() => {
                    leaving = e;
                  }}>Delete …</Button
                >{/if}</td
            >
          </tr>
        {:else}
          <tr
            ><td colspan="6" class="quiet"
              >{filter
                ? `No entry contains “${filter}”.`
                : 'No entries. Add one, or type a secret into a plan’s sheet.'}</td
            ></tr
          >
        {/each}
      </tbody>
    </table>
  </div>
  <Access />
</div>

{#if adding}
  <Dialog
    title="Add entry"
    onclose={() => {
      adding = false;
    }}
  >
    <form
      onsubmit={(event) => {
        event.preventDefault();
        void add();
      }}
    >
      <label>Name <input bind:value={name} class="mono" placeholder="team-admin" /></label>
      <label
        >Kind <select bind:value={kind}
          ><option value="password">password</option><option value="key">private key</option
          ></select
        ></label
      >
      <label
        >Value {#if kind === 'key'}<textarea bind:value rows="5" class="mono"
          ></textarea>{:else}<input type="password" autocomplete="off" bind:value />{/if}</label
      >
      <p class="quiet">An entry of that name is replaced; its grants stay.</p>
      <Button kind="main" type="submit" disabled={!name.trim() || !value}>Save entry</Button>
    </form>
  </Dialog>
{/if}
{#if leaving}
  <Dialog
    title={`Delete ${leaving.name}?`}
    onclose={() => {
      leaving = null;
    }}
  >
    <p>
      {leaving.plans.length
        ? `${count(leaving.plans.length, 'plan')} can open it: ${leaving.plans.join(', ')}. `
        : ''}Nodes that are deployed keep their passwords. The entry cannot be restored.
    </p>
    <p class="acts">
      <Button
        kind="main"
        onclick={() => {
          if (leaving) void remove(leaving);
        }}>Delete entry</Button
      ><Button
        onclick={() => {
          leaving = null;
        }}>Cancel</Button
      >
    </p>
  </Dialog>
{/if}

<style>
  .page {
    display: flex;
    flex-direction: column;
    height: 100%;
    padding: 0 20px;
    min-height: 0;
  }
  .bar {
    display: flex;
    justify-content: space-between;
    align-items: baseline;
    gap: 24px;
    padding: 10px 0 8px;
    border-bottom: 1px solid var(--line);
  }
  h1 .quiet {
    font-weight: 400;
    font-size: var(--text-s);
    margin-left: 8px;
  }
  .tools {
    padding: 8px 0 6px;
    flex: none;
  }
  .tools input {
    border: 0;
    border-bottom: 1px solid var(--strong-line);
    background: none;
    padding: 2px 4px;
    font-size: var(--text-s);
    border-radius: 0;
  }
  .table {
    overflow: auto;
    flex: 1;
    min-height: 0;
    border-top: 1px solid var(--strong-line);
  }
  table {
    border-collapse: separate;
    border-spacing: 0;
    width: 100%;
  }
  thead th {
    position: sticky;
    top: 0;
    background: var(--sunk);
    color: var(--soft);
    font-weight: 400;
    font-size: var(--text-s);
    text-align: left;
    padding: 4px 6px;
  }
  td,
  tbody th {
    padding: 5px 6px;
    border-bottom: 1px solid var(--line);
    text-align: left;
    font-weight: 400;
    vertical-align: baseline;
  }
  tbody th {
    max-width: 340px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .given {
    display: inline-flex;
    gap: 6px;
    align-items: baseline;
    margin-right: 14px;
  }
  .given button {
    border: 0;
    background: none;
    padding: 0;
    color: var(--muted);
    font-size: var(--text-s);
    border-bottom: 1px dotted var(--muted);
    cursor: pointer;
  }
  .given button:hover {
    color: var(--accent);
  }
  select,
  form input,
  textarea {
    font-size: var(--text-s);
  }
  form {
    display: grid;
    gap: 10px;
    min-width: 380px;
  }
  label {
    display: grid;
    gap: 3px;
    color: var(--muted);
    font-size: var(--text-s);
  }
  .acts {
    display: flex;
    gap: 10px;
    margin-top: 14px;
  }
</style>
