<script lang="ts">
  /** What one kind of host preparation needs to know. */
  import type { EstateView, OneHost } from '../../lib/api/types';
  import { size } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import { MOST, type Form, type Kind, type StoreCare } from './actions';

  interface Props {
    estate: EstateView;
    kind: Kind;
    chosen: string[];
    /** Hosts whose disks and interfaces were read for the form, by name. */
    details: Record<string, OneHost>;
    form: Form;
    care: StoreCare;
    publicKey: string;
    busy: boolean;
    onkey: () => void;
  }
  let {
    estate,
    kind,
    chosen,
    details,
    form = $bindable(),
    care = $bindable(),
    publicKey = $bindable(),
    busy,
    onkey,
  }: Props = $props();
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
  let stores = $derived([
    ...new Set(estate.hosts.flatMap((h) => h.stores.filter((s) => s.shared).map((s) => s.name))),
  ]);
</script>

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
        onclick={onkey}>Create the key, or use the existing one</Button
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
      ><label>MTU <input class="mono" bind:value={form.mtu} inputmode="numeric" /></label><label
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
                .map((s) => s.name) ?? []))] as n (n)}<option value={n}></option>{/each}</datalist
    ><label>New name <input class="mono" bind:value={form.name} /></label>
  {:else if kind === 'fencing-volume'}<label
      >Shared datastore <select bind:value={form.datastore}
        ><option value="" disabled>choose</option>{#each stores as n (n)}<option value={n}
            >{n}</option
          >{/each}</select
      ></label
    ><label>Name <input class="mono" bind:value={form.name} placeholder="witness" /></label>
  {:else if kind === 'refuse-passwords'}<p class="quiet">No further input needed.</p>{/if}
  {#if kind === 'datastore-disk'}<label>Name <input class="mono" bind:value={form.name} /></label
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
            >{:else}<p class="quiet">{name}: no such disk</p>{/each}{/if}{:else}<p class="quiet">
          Choose hosts to see their disks.
        </p>{/each}
    </div>
  {/if}
  {#if kind.startsWith('datastore-')}<div class="row">
      <label
        >Usage limit, % <input
          class="mono"
          bind:value={care.watermark}
          inputmode="numeric"
        /></label
      ><label
        >Protection <select bind:value={care.protection}
          ><option value="">not set</option><option value="protected">protected</option><option
            value="disposable">disposable</option
          ></select
        ></label
      >
    </div>{/if}
</div>

<style>
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
</style>
