<script lang="ts">
  /** Groundwork: what is to be done, on which hosts, with the exact commands before anything is sent. */
  import { ApiError, get, send } from '../../lib/api/client';
  import type { Action, EstateView, OneHost, Preview } from '../../lib/api/types';
  import { count, size } from '../../lib/format';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import { brief } from '../ledger/transcript';
  import { ABOUT, actionsOf, EMPTY, KINDS, type Form, type Kind } from './actions';
  import Copy from '../../lib/ui/Copy.svelte';

  interface Props {
    estate: EstateView;
    remedies?: Action[];
    hosts?: string[];
    onclose: () => void;
  }
  let { estate, remedies = [], hosts = [], onclose }: Props = $props();
  // svelte-ignore state_referenced_locally
  let repairing = remedies.length > 0;
  // svelte-ignore state_referenced_locally
  let chosen = $state<string[]>([...hosts]),
    kind = $state<Kind>('datastore-folder'),
    form = $state<Form>({ ...EMPTY, name: '{host}-data', path: '/srv/{host}-data' });
  // svelte-ignore state_referenced_locally
  let ticked = $state<boolean[]>(remedies.map((a) => a.kind !== 'wipe-disk'));
  let details = $state.raw<Record<string, OneHost>>({}),
    publicKey = $state(''),
    filter = $state(''),
    watermark = $state('85'),
    protection = $state<'' | 'protected' | 'disposable'>('');
  let preview = $state.raw<Preview | null>(null),
    problem = $state(''),
    busy = $state(false),
    typed = $state<Record<string, string>>({}),
    timer = 0,
    asked = 0;
  let listed = $derived(
    estate.hosts.filter(
      (h) => !filter || `${h.name} ${h.bay} ${h.site}`.toLowerCase().includes(filter.toLowerCase()),
    ),
  );
  const MOST = 24;
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
      a.kind === 'wipe-disk' ? { ...a, confirmed: typed[`${a.host} ${a.device}`] ?? '' } : a,
    ),
  );
  let care = $derived(
    confirmed.some((a) => a.kind.startsWith('datastore-'))
      ? { watermark: Math.min(1, Math.max(0.05, Number(watermark) / 100 || 0.85)), protection }
      : null,
  );
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
  const records = () => {
    form.records = estate.hosts
      .filter((h) => chosen.some((c) => estate.hosts.find((o) => o.name === c)?.bay === h.bay))
      .map((h) => `${h.address} ${h.name}`)
      .join('\n');
  };
  function toggle(name: string, device: string, on: boolean) {
    const now = form.disks[name] ?? [];
    form.disks = { ...form.disks, [name]: on ? [...now, device] : now.filter((d) => d !== device) };
  }
  const offered = (one: OneHost) =>
    (one.facts.disks ?? []).filter((d) =>
      kind === 'wipe-disk' ? d.use === 'remains' : d.use === 'free',
    );
  const bays = $derived([...new Set(estate.hosts.map((h) => `${h.site} · ${h.bay}`))]);
  function all(bay: string) {
    const mine = estate.hosts.filter((h) => `${h.site} · ${h.bay}` === bay).map((h) => h.name),
      on = mine.every((n) => chosen.includes(n));
    chosen = on ? chosen.filter((n) => !mine.includes(n)) : [...new Set([...chosen, ...mine])];
  }
  let stores = $derived([
    ...new Set(estate.hosts.flatMap((h) => h.stores.filter((s) => s.shared).map((s) => s.name))),
  ]);
  function inWords(action: Action): string {
    switch (action.kind) {
      case 'wipe-disk':
        return `wipe ${action.device} (${size(action.size_bytes)}, ${action.content})`;
      case 'carry-network':
        return `add network ${action.network} over ${action.uplink}.${action.vlan ?? ''}`;
      case 'names':
        return count(action.records.length, 'name record');
      case 'time-source':
        return `use time server ${action.server}`;
      default:
        return action.kind.replaceAll('-', ' ');
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

<Dialog title={repairing ? 'Fix problems' : 'Prepare hosts'} wide {onclose}>
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
      <div class="hosts">
        <input bind:value={filter} placeholder="Filter hosts" aria-label="Filter hosts" />
        <div class="list">
          {#each bays as bay (bay)}{#if listed.some((h) => `${h.site} · ${h.bay}` === bay)}<button
                class="bay"
                onclick={() => all(bay)}>{bay}</button
              >{#each listed.filter((h) => `${h.site} · ${h.bay}` === bay) as h (h.name)}<label
                  class="host"
                  ><input type="checkbox" value={h.name} bind:group={chosen} /> {h.name}</label
                >{/each}{/if}{/each}
        </div>
      </div>
      <div class="fields">
        {#if kind === 'ssh-key'}<label
            >Name of the key in the keyring <input
              bind:value={form.key}
              oninput={() => {
                publicKey = '';
              }}
            /></label
          >{#if publicKey}<p class="mono key">{publicKey}</p>{:else}<Button
              disabled={busy || !form.key}
              onclick={() => void key()}>Create the key, or use the existing one</Button
            >{/if}
        {:else if kind === 'names'}<label
            >Address and names, one record per line <textarea
              class="mono"
              rows="4"
              bind:value={form.records}
              placeholder="10.44.1.11 gannet.kelda.holm.example gannet"></textarea></label
          ><Button kind="link" disabled={!chosen.length} onclick={records}
            >all hosts of the chosen hosts’ bays</Button
          >
        {:else if kind === 'time-source'}<label
            >Time server <input
              class="mono"
              bind:value={form.server}
              list="ntp"
              placeholder="10.44.0.5"
            /></label
          ><datalist id="ntp"
            >{#each [...new Set(estate.networks.map((n) => n.ntp).filter(Boolean))] as n (n)}<option
                value={n}
              ></option>{/each}</datalist
          >
        {:else if kind === 'isolated-network'}<label
            >Name <input bind:value={form.name} placeholder="inner" /></label
          ><label
            >Bridge <input
              class="mono"
              bind:value={form.bridge}
              placeholder={form.name ? `in-${form.name}`.slice(0, 15) : 'derived from the name'}
            /></label
          >
        {:else if kind === 'carry-network'}
          <label
            >Network <select
              bind:value={form.network}
              onchange={() => {
                const n = estate.networks.find((one) => one.name === form.network);
                form.vlan = n?.vlan ? String(n.vlan) : '';
                form.mtu = String(n?.mtu ?? 1500);
              }}
              ><option value="" disabled>choose</option>{#each estate.networks as n (n.name)}<option
                  value={n.name}>{n.name}</option
                >{/each}</select
            ></label
          >
          <label
            >Over interface <input
              class="mono"
              bind:value={form.uplink}
              list="uplinks"
              placeholder="eno2"
            /></label
          ><datalist id="uplinks"
            >{#each [...new Set(chosen.flatMap((n) => (details[n]?.facts.interfaces ?? [])
                    .filter((i) => ['physical', 'bond'].includes(i.kind ?? '') && i.link)
                    .map((i) => i.name)))] as n (n)}<option value={n}></option>{/each}</datalist
          >
          <div class="row">
            <label
              >VLAN <input
                class="mono"
                bind:value={form.vlan}
                inputmode="numeric"
                placeholder="none"
              /></label
            ><label>MTU <input class="mono" bind:value={form.mtu} inputmode="numeric" /></label
            ><label
              >First address (counts up) <input
                class="mono"
                bind:value={form.address}
                placeholder="none"
              /></label
            >
          </div>
        {:else if kind === 'datastore-folder'}<label
            >Name <input class="mono" bind:value={form.name} /></label
          ><label>Folder <input class="mono" bind:value={form.path} /></label>
        {:else if kind === 'datastore-nfs'}<label
            >Name, the same on all <input class="mono" bind:value={form.name} /></label
          >
          <div class="row">
            <label
              >Server <input
                class="mono"
                bind:value={form.nfsServer}
                placeholder="filer.kelda.holm.example"
              /></label
            ><label
              >Export <input
                class="mono"
                bind:value={form.nfsExport}
                placeholder="/export/guests"
              /></label
            >
          </div>
        {:else if kind === 'rename-datastore'}<label
            >Current name <input class="mono" bind:value={form.from} list="locals" /></label
          ><datalist id="locals"
            >{#each [...new Set(chosen.flatMap((n) => estate.hosts
                      .find((h) => h.name === n)
                      ?.stores.filter((s) => !s.shared)
                      .map((s) => s.name) ?? []))] as n (n)}<option value={n}
              ></option>{/each}</datalist
          ><label>New name <input class="mono" bind:value={form.name} /></label>
        {:else if kind === 'fencing-volume'}<label
            >Shared datastore <select bind:value={form.datastore}
              ><option value="" disabled>choose</option>{#each stores as n (n)}<option value={n}
                  >{n}</option
                >{/each}</select
            ></label
          ><label>Name <input class="mono" bind:value={form.name} placeholder="witness" /></label>
        {:else if kind === 'refuse-passwords'}<p class="quiet">No further input needed.</p>{/if}
        {#if kind === 'datastore-disk'}<label
            >Name <input class="mono" bind:value={form.name} /></label
          >{/if}
        {#if kind === 'datastore-disk' || kind === 'wipe-disk'}
          <div class="disks">
            {#each chosen.slice(0, MOST) as name (name)}{#if details[name]}{#each offered(details[name]) as d (d.path)}<label
                    ><input
                      type="checkbox"
                      checked={form.disks[name]?.includes(d.path)}
                      onchange={(e) => toggle(name, d.path, e.currentTarget.checked)}
                    /> <b>{name}</b> <span class="mono">{d.path}</span>
                    {size(d.size_bytes)}
                    {d.model}{d.why ? `: ${d.why}` : ''}</label
                  >{:else}<p class="quiet">{name}: no such disk</p>{/each}{/if}{:else}<p
                class="quiet"
              >
                Choose hosts to see their disks.
              </p>{/each}
          </div>
        {/if}
        {#if kind.startsWith('datastore-')}<div class="row">
            <label
              >Usage limit, % <input
                class="mono"
                bind:value={watermark}
                inputmode="numeric"
              /></label
            ><label
              >Protection <select bind:value={protection}
                ><option value="">not set</option><option value="protected">protected</option
                ><option value="disposable">disposable</option></select
              ></label
            >
          </div>{/if}
      </div>
    </div>
  {/if}
  {#if problem}<p class="alarm" role="alert">{problem}</p>{/if}
  {#if preview}
    <div class="steps">
      {#each preview.steps as s (s.key)}
        <details open={preview.steps.length <= 2 || s.refusals.length > 0 || s.confirm !== ''}>
          <summary
            ><b>{s.host}</b>
            {s.label}{#if !s.undoable}<span class="warn">cannot be rolled back</span
              >{/if}{#if s.refusals.length}<span class="warn">refused</span>{/if}</summary
          >
          {#if s.confirm}<label class="confirm"
              >Type <b class="mono">{s.confirm}</b> to wipe it
              <input
                class="mono"
                bind:value={typed[s.confirm]}
                autocomplete="off"
                aria-label={`Type ${s.confirm}`}
              /></label
            >{/if}
          {#each s.refusals.filter((t) => !t.startsWith('type ')) as text (text)}<p class="alarm">
              {text}
            </p>{/each}
          {#each s.commands as c (c)}<pre class="mono">{c}<Copy
                text={c}
                what="command"
              /></pre>{/each}
          {#if s.undo.length}<p class="quiet undo">
              Rolled back by: <span class="mono">{s.undo.map((u) => brief(u)).join(' · ')}</span>
            </p>{/if}
        </details>{/each}
    </div>
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
  .list {
    max-height: 190px;
    overflow: auto;
    border-top: 1px solid var(--line);
    margin-top: 4px;
  }
  .bay {
    border: 0;
    background: none;
    color: var(--muted);
    font-size: var(--text-s);
    padding: 5px 0 1px;
    cursor: pointer;
    display: block;
  }
  .bay:hover {
    color: var(--accent);
  }
  .host {
    display: block;
    font-size: var(--text-s);
  }
  .fields {
    display: grid;
    gap: 8px;
    align-content: start;
  }
  .fields label:not(.disks label) {
    display: grid;
    gap: 2px;
    font-size: var(--text-s);
    color: var(--muted);
  }
  input:not([type='checkbox']),
  select,
  textarea {
    padding: 4px 8px;
    border: 1px solid var(--strong-line);
    background: var(--paper);
    border-radius: var(--radius);
    color: var(--ink);
    width: 100%;
  }
  .row {
    display: grid;
    grid-auto-flow: column;
    grid-auto-columns: 1fr;
    gap: 10px;
  }
  .disks {
    max-height: 150px;
    overflow: auto;
    font-size: var(--text-s);
    display: grid;
    gap: 2px;
  }
  .key {
    font-size: 11px;
    overflow-wrap: anywhere;
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
  .steps {
    max-height: 30vh;
    overflow: auto;
    border-block: 1px solid var(--strong-line);
    margin-top: 10px;
  }
  details {
    border-top: 1px solid var(--line);
    padding: 5px 0;
  }
  details:first-child {
    border: 0;
  }
  summary {
    cursor: pointer;
  }
  .warn {
    color: var(--blocker);
    font-size: var(--text-s);
    margin-left: 10px;
  }
  pre {
    margin: 4px 0 0 14px;
    font-size: 11px;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    color: var(--soft);
    background: var(--sunk);
    padding: 4px 8px;
  }
  .undo {
    margin: 4px 0 0 14px;
    font-size: 12px;
    overflow-wrap: anywhere;
  }
  .confirm {
    display: grid;
    grid-template-columns: auto 1fr;
    gap: 10px;
    align-items: center;
    margin: 6px 0 2px 14px;
    font-size: var(--text-s);
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
