<script lang="ts">
  /** What an inspection saw inside a machine, beside what its controller says. */
  import type { MachineView } from '../../lib/api/types';
  import { ago, size, utc } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import Later from '../../lib/ui/Later.svelte';
  import { parts } from './parts';
  import Listing from '../../lib/ui/Listing.svelte';
  import { diskRows, holdsText, nicRows, type InsideNic } from './inside';

  interface Props {
    name: string;
    facts: MachineView['facts'];
    now: number;
  }
  let { name, facts: f, now }: Props = $props();
  let inside = $derived(f.inside);
  let age = $derived(now - (inside?.read_at ?? 0));
  let dialog = $state<'wipe' | 'write' | null>(null);
  function linkOf(nic: InsideNic): string {
    if (nic.link === false) return 'no link';
    if (nic.link !== true) return 'link not reported';
    return nic.speed_mbit ? `${nic.speed_mbit / 1000} Gbit` : 'link';
  }
</script>

{#if inside}
  <section>
    <h2>
      Inside <span title={utc(inside.read_at ?? 0)}
        >inspected {ago(age)} · {inside.firmware?.toUpperCase()} · {size(inside.memory_bytes ?? 0)} ·
        {inside.threads} threads · {inside.cpu}</span
      >
    </h2>
    <Listing>
      <thead
        ><tr><th>Interface</th><th>Port</th><th>MAC</th><th>Link</th><th>Connected to</th></tr
        ></thead
      >
      <tbody
        >{#each nicRows(f) as r (r.mac)}<tr class:odd={!r.seen || !r.port}
            ><th scope="row">{r.seen?.name ?? 'not seen inside'}</th><td
              >{r.port || 'not listed by the controller'}</td
            ><td class="mono">{r.mac}</td><td>{r.seen ? linkOf(r.seen) : '—'}</td><td
              >{#if r.seen?.neighbour}{r.seen.neighbour.name || r.seen.neighbour.chassis}
                <span class="quiet">{r.seen.neighbour.port}</span>{:else}<span class="quiet"
                  >not announced</span
                >{/if}</td
            ></tr
          >{/each}</tbody
      >
    </Listing>
    <Listing>
      <thead
        ><tr
          ><th>Disk</th><th>Drive</th><th>Serial</th><th>Kind</th><th class="r">Size</th><th
            >Holds</th
          ></tr
        ></thead
      >
      <tbody
        >{#each diskRows(f) as r, i (r.serial || i)}<tr class:odd={!r.seen || !r.drive}
            ><th scope="row">{r.seen?.device ?? 'not seen inside'}</th><td
              >{r.drive || 'not listed by the controller'}</td
            ><td class="mono">{r.serial || '—'}</td><td>{r.seen?.kind ?? '—'}</td><td class="mono r"
              >{r.seen ? size(r.seen.size_bytes ?? 0) : '—'}</td
            ><td>{r.seen ? holdsText(r.seen) || 'blank' : '—'}</td></tr
          >{/each}</tbody
      >
    </Listing>
    <p class="acts">
      <Button
        onclick={() => {
          dialog = 'write';
        }}>Write image …</Button
      ><Button
        onclick={() => {
          dialog = 'wipe';
        }}>Wipe drives …</Button
      >
    </p>
  </section>
  {#if dialog}<Later
      load={parts[dialog]}
      {name}
      facts={f}
      onclose={() => {
        dialog = null;
      }}
    />{/if}
{/if}

<style>
  section {
    margin-bottom: 18px;
    display: grid;
    gap: 12px;
  }
  .acts {
    display: flex;
    gap: 8px;
  }
  h2 {
    font-size: var(--text-m);
    font-weight: 600;
  }
  h2 span {
    font-weight: 400;
    color: var(--muted);
    font-size: var(--text-s);
    margin-left: 10px;
  }
  .odd td,
  .odd th {
    color: var(--caution);
  }
</style>
