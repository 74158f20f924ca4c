<script lang="ts">
  /** How a host is called and where it belongs; and taking it out of the estate. What is typed stays when facts are read again. */
  import { send } from '../../lib/api/client';
  import type { OneHost } from '../../lib/api/types';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';
  import type { EstateData } from './estate.svelte';

  let { one, data }: { one: OneHost; data: EstateData } = $props();
  let name = $derived(one.host.name);
  let retiring = $state(false),
    called = $state(''),
    bay = $state(''),
    site = $state(''),
    tags = $state(''),
    note = $state('');
  let known: OneHost['host'] | null = null;
  $effect(() => {
    const now = one.host,
      old = known;
    if (!old || called === old.name) called = now.name;
    if (!old || bay === old.bay) bay = now.bay;
    if (!old || site === old.site) site = now.site;
    if (!old || tags === (old.tags ?? []).join(' ')) tags = (now.tags ?? []).join(' ');
    if (!old || note === (old.note ?? '')) note = now.note ?? '';
    known = now;
  });
  let changed = $derived(
    called !== name ||
      site !== one.host.site ||
      bay !== one.host.bay ||
      tags !== (one.host.tags ?? []).join(' ') ||
      note !== (one.host.note ?? ''),
  );
  const change = async (body: object, to: string) => {
    if (await data.work('changing', () => send('PATCH', `/estate/hosts/${name}`, body)))
      router.go(`/estate/hosts/${to}`, true);
  };
</script>

<Section title="Settings"
  ><form
    class="own"
    onsubmit={(e) => {
      e.preventDefault();
      void change(
        { name: called, site, bay, note, tags: tags.split(/[\s,]+/).filter(Boolean) },
        called,
      );
    }}
  >
    <label
      >Name <input
        bind:value={called}
        maxlength="60"
        required
        pattern="[a-z0-9][a-z0-9.\-]*"
      /></label
    >
    <div class="pair">
      <label>Site <input bind:value={site} maxlength="60" required /></label><label
        >Bay <input bind:value={bay} maxlength="60" required /></label
      >
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
              .work('retiring', () => send('DELETE', `/estate/hosts/${name}`))
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
    grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
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
