<script lang="ts">
  /** Host preparation: what is to be done, on which hosts, with the exact commands before anything is sent. */
  import { ApiError, get, send } from '../../lib/api/client';
  import type { Action, EstateView, OneHost, Preview } from '../../lib/api/types';
  import { count, size } from '../../lib/format';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import {
    ABOUT,
    actionsOf,
    EMPTY,
    KINDS,
    MOST,
    type Form,
    type Kind,
    type StoreCare,
  } from './actions';
  import PrepareFields from './PrepareFields.svelte';
  import PrepareHosts from './PrepareHosts.svelte';
  import PrepareSteps from './PrepareSteps.svelte';

  type Work = Parameters<typeof send<'POST', '/estate/groundwork/preview'>>[2];

  interface Props {
    estate: EstateView;
    /** Actions to choose from, in place of the form. */
    remedies?: Action[];
    /** What holds for datastores among them; without it, what the form says. */
    kept?: Work['care'];
    title?: string;
    hosts?: string[];
    onclose: () => void;
  }
  let {
    estate,
    remedies = [],
    kept,
    title = 'Fix problems',
    hosts = [],
    onclose,
  }: Props = $props();
  // svelte-ignore state_referenced_locally
  let repairing = remedies.length > 0;
  // svelte-ignore state_referenced_locally
  let chosen = $state<string[]>([...hosts]),
    kind = $state<Kind>('datastore-folder'),
    form = $state<Form>({ ...EMPTY, name: '{host}-data', path: '/srv/{host}-data' });
  // svelte-ignore state_referenced_locally
  let ticked = $state<boolean[]>(remedies.map((a) => !('confirmed' in a)));
  let details = $state.raw<Record<string, OneHost>>({}),
    publicKey = $state(''),
    store = $state<StoreCare>({ watermark: '85', protection: '' });
  let preview = $state.raw<Preview | null>(null),
    problem = $state(''),
    busy = $state(false),
    typed = $state<Record<string, string>>({}),
    timer = 0,
    asked = 0;
  const asks = (k: Kind) =>
    ['carry-network', 'datastore-disk', 'wipe-disk', 'rename-datastore'].includes(k);
  $effect(() => {
    if (!repairing && asks(kind))
      for (const name of chosen.slice(0, MOST))
        if (!details[name])
          void get(`/estate/hosts/${name}`)
            .then((one) => {
              details = { ...details, [name]: one };
            })
            .catch(() => undefined);
  });
  $effect(() => {
    void kind;
    form.disks = {};
    if (kind === 'isolated-network' || kind === 'fencing-volume') form.name = '';
    if (kind === 'datastore-folder' || kind === 'datastore-disk') form.name = '{host}-data';
  });
  let meant = $derived(
    repairing
      ? remedies.filter((_, i) => ticked[i])
      : actionsOf(kind, form, chosen, details, publicKey, estate),
  );
  let confirmed = $derived(
    meant.map((a) =>
      a.kind === 'wipe-disk' || a.kind === 'remove-vm'
        ? {
            ...a,
            confirmed: typed[`${a.host} ${a.kind === 'wipe-disk' ? a.device : a.name}`] ?? '',
          }
        : a,
    ),
  );
  let care = $derived.by(() => {
    if (kept !== undefined) return kept;
    if (!confirmed.some((a) => a.kind.startsWith('datastore-'))) return null;
    return {
      watermark: Math.min(1, Math.max(0.05, Number(store.watermark) / 100 || 0.85)),
      protection: store.protection,
    };
  });
  $effect(() => {
    const body = { actions: confirmed, care };
    clearTimeout(timer);
    timer = window.setTimeout(() => {
      const number = ++asked;
      problem = '';
      if (!body.actions.length) {
        preview = null;
        return;
      }
      send('POST', '/estate/groundwork/preview', body)
        .then((found) => {
          if (number === asked) preview = found;
        })
        .catch((e: unknown) => {
          if (number === asked) {
            preview = null;
            said(e);
          }
        });
    }, 200);
  });
  function said(error: unknown) {
    problem =
      error instanceof ApiError ? `${error.problem.detail} ${error.problem.hint}` : String(error);
  }
  let against = $derived(preview?.steps.flatMap((s) => s.refusals) ?? []);
  let names = $derived([...new Set(confirmed.map((a) => a.host))]);
  async function key() {
    busy = true;
    try {
      publicKey = (await send('POST', '/estate/keys', { name: form.key })).public;
    } catch (error) {
      said(error);
    } finally {
      busy = false;
    }
  }
  async function go() {
    busy = true;
    problem = '';
    try {
      const run = await send('POST', '/estate/groundwork', {
        run: preview!.run,
        work: { actions: confirmed, care },
      });
      onclose();
      router.go(`/estate/groundwork/${run.id}`);
    } catch (error) {
      said(error);
    } finally {
      busy = false;
    }
  }
  function inWords(action: Action): string {
    switch (action.kind) {
      case 'wipe-disk':
        return `wipe ${action.device} (${size(action.size_bytes)}, ${action.content})`;
      case 'remove-vm':
        return `delete VM ${action.name}, whose node is on ${action.home}`;
      case 'carry-network':
        return `add network ${action.network} over ${action.uplink}.${action.vlan ?? ''}`;
      case 'names':
        return count(action.records.length, 'name record');
      case 'time-source':
        return `use time server ${action.server}`;
      default: {
        const name = 'name' in action ? ` ${action.name}` : '';
        return action.kind.replaceAll('-', ' ') + name;
      }
    }
  }
  let hint = $derived.by(() => {
    if (preview) {
      const refused = against.length ? `; ${against.length} refused` : '';
      return `${count(preview.steps.length, 'step')} on ${count(names.length, 'host')}${refused}`;
    }
    if (repairing) return 'Select at least one action.';
    return chosen.length ? 'Fill in the form to see the commands.' : 'Choose hosts.';
  });
</script>

<Dialog title={repairing ? title : 'Prepare hosts'} wide {onclose}>
  {#if repairing}
    <p class="quiet about">
      Select actions. Exactly these commands will run; nothing runs before you confirm.
    </p>
    <ul class="ticks">
      {#each remedies as a, i (i)}<li>
          <label
            ><input type="checkbox" bind:checked={ticked[i]} /> <b>{a.host}</b>
            {inWords(a)}</label
          >
        </li>{/each}
    </ul>
  {:else}
    <div class="what">
      {#each KINDS as [group, kinds] (group)}<fieldset>
          <legend>{group}</legend>{#each kinds as [k, label] (k)}<button
              aria-pressed={kind === k}
              onclick={() => {
                kind = k;
              }}>{label}</button
            >{/each}
        </fieldset>{/each}
    </div>
    <p class="quiet about">{ABOUT[kind]}</p>
    <div class="two">
      <PrepareHosts {estate} bind:chosen />
      <PrepareFields
        {estate}
        {kind}
        {chosen}
        {details}
        bind:form
        bind:care={store}
        bind:publicKey
        {busy}
        onkey={() => void key()}
      />
    </div>
  {/if}
  {#if problem}<p class="alarm" role="alert">{problem}</p>{/if}
  {#if preview}
    <PrepareSteps {preview} bind:typed />
  {/if}
  <div class="acts">
    <p class="quiet">
      {hint}
    </p>
    <Button onclick={onclose}>Close</Button><Button
      kind="main"
      disabled={busy || !preview || against.length > 0}
      onclick={() => void go()}
      >{names.length
        ? `Run on ${names.length <= 2 ? names.join(' and ') : count(names.length, 'host')}`
        : 'Run'}</Button
    >
  </div>
</Dialog>

<style>
  .about {
    font-size: var(--text-s);
    margin: 2px 0 10px;
  }
  .what {
    display: grid;
    grid-template-columns: 1.4fr 1.2fr 1.4fr 0.9fr;
    gap: 6px 14px;
  }
  fieldset {
    border: 0;
    padding: 0;
    margin: 0;
    display: flex;
    flex-direction: column;
    align-items: flex-start;
  }
  legend {
    color: var(--muted);
    font-size: var(--text-s);
    padding: 0;
  }
  fieldset button {
    min-height: 25px;
    border: 0;
    background: none;
    padding: 1px 6px 1px 0;
    cursor: pointer;
    text-align: left;
  }
  fieldset button:hover {
    color: var(--accent);
  }
  fieldset button[aria-pressed='true'] {
    font-weight: 600;
    text-decoration: underline;
    text-underline-offset: 4px;
  }
  .two {
    display: grid;
    grid-template-columns: 210px 1fr;
    gap: 20px;
  }
  .ticks {
    list-style: none;
    margin: 0;
    padding: 0;
    max-height: 22vh;
    overflow: auto;
  }
  .ticks li {
    padding: 2px 0;
  }
  .acts {
    display: flex;
    gap: 10px;
    align-items: center;
    position: sticky;
    bottom: 0;
    background: var(--surface);
    padding: 12px 0;
    margin-bottom: -20px;
  }
  .acts p {
    flex: 1;
    font-size: var(--text-s);
  }
  .alarm {
    color: var(--blocker);
    font-size: var(--text-s);
    margin: 4px 0 0 14px;
  }
</style>
