<script lang="ts">
  /** How a host or machine is called and where it belongs; and taking it out of the estate. What is typed stays when facts are read again. */
  import { send } from '../../lib/api/client';
  import type { HostChange } from '../../lib/api/types';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';
  import type { EstateData } from './estate.svelte';

  interface Thing {
    name: string;
    site: string;
    bay: string;
    rack?: string;
    tags?: string[];
    note?: string;
  }
  interface Props {
    thing: Thing;
    /** Machines keep their name. */
    kind: 'hosts' | 'machines';
    data: EstateData;
  }
  let { thing, kind, data }: Props = $props();
  let name = $derived(thing.name);
  let retiring = $state(false),
    called = $state(''),
    bay = $state(''),
    site = $state(''),
    rack = $state(''),
    tags = $state(''),
    note = $state('');
  let known: Thing | null = null;
  $effect(() => {
    const now = thing,
      old = known;
    if (!old || called === old.name) called = now.name;
    if (!old || bay === old.bay) bay = now.bay;
    if (!old || site === old.site) site = now.site;
    if (!old || rack === (old.rack ?? '')) rack = now.rack ?? '';
    if (!old || tags === (old.tags ?? []).join(' ')) tags = (now.tags ?? []).join(' ');
    if (!old || note === (old.note ?? '')) note = now.note ?? '';
    known = now;
  });
  let changed = $derived(
    called !== name ||
      site !== thing.site ||
      bay !== thing.bay ||
      rack !== (thing.rack ?? '') ||
      tags !== (thing.tags ?? []).join(' ') ||
      note !== (thing.note ?? ''),
  );
  const change = async (body: HostChange, to: string) => {
    const done = await data.work('changing', () =>
      kind === 'hosts'
        ? send('PATCH', `/estate/hosts/${name}`, body)
        : send('PATCH', `/estate/machines/${name}`, body),
    );
    if (done) router.go(`/estate/${kind}/${to}`, true);
  };
</script>

<Section title="Settings"
  ><form
    class="own"
    onsubmit={(e) => {
      e.preventDefault();
      void change(
        {
          ...(kind === 'hosts' ? { name: called } : {}),
          site,
          bay,
          rack,
          note,
          tags: tags.split(/[\s,]+/).filter(Boolean),
        },
        called,
      );
    }}
  >
    {#if kind === 'hosts'}<label
        >Name <input
          bind:value={called}
          maxlength="60"
          required
          pattern="[a-z0-9][a-z0-9.\-]*"
        /></label
      >{/if}
    <div class="pair">
      <label>Site <input bind:value={site} maxlength="60" required /></label><label
        >Bay <input bind:value={bay} maxlength="60" required /></label
      ><label>Rack <input bind:value={rack} maxlength="60" placeholder="not set" /></label>
    </div>
    <label>Tags <input bind:value={tags} placeholder="words to filter by" /></label><label
      >Note <textarea bind:value={note} rows="2" maxlength="500" placeholder="notes for the team"
      ></textarea></label
    >
    <div class="acts">
      {#if changed}<Button kind="main" type="submit">Save</Button>{/if}{#if retiring}<Button
          kind="danger"
          onclick={() =>
            void data
              .work('retiring', () =>
                kind === 'hosts'
                  ? send('DELETE', `/estate/hosts/${name}`)
                  : send('DELETE', `/estate/machines/${name}`),
              )
              .then((gone) => {
                if (gone) router.go('/estate');
                retiring = false;
              })}>Remove {name}</Button
        ><Button
          onclick={() => {
            retiring = false;
          }}>Cancel</Button
        >{:else}<Button
          onclick={() => {
            retiring = true;
          }}>Remove …</Button
        >{/if}
    </div>
  </form></Section
>

<style>
  .own {
    display: grid;
    gap: 6px;
  }
  .pair {
    display: grid;
    grid-template-columns: repeat(3, minmax(0, 1fr));
    gap: 10px;
  }
  .own {
    grid-template-columns: minmax(0, 1fr);
  }
  .own input,
  .own textarea {
    width: 100%;
    min-width: 0;
  }
  .own label {
    display: grid;
    gap: 2px;
    font-size: var(--text-s);
    color: var(--muted);
  }

  .acts {
    display: flex;
    gap: 8px;
    margin-top: 4px;
    flex-wrap: wrap;
  }
</style>
