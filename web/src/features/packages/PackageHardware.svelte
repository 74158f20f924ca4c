<script lang="ts">
  /** What a package consists of: virtual systems, installer, kernel, disks and networks. */
  import type { PackageView } from '../../lib/api/types';
  import { count, size } from '../../lib/format';
  import Weight from '../../lib/ui/Weight.svelte';
  import Section from '../ledger/Section.svelte';
  import HardwareDrawing from './HardwareDrawing.svelte';

  let { one }: { one: PackageView } = $props();
  let differences = $derived(
    one.differences.filter((d) => d.outcome !== 'kept' || d.weight !== 'note'),
  );
  const WORD: Record<string, string> = {
    kept: 'as described',
    mapped: 'becomes',
    dropped: 'is left out',
    added: 'is added',
  };
</script>

{#if one.systems.length > 1}<Section title="Virtual systems" aside={String(one.systems.length)}
    ><table>
      <tbody
        >{#each one.systems as s (s.id)}<tr
            ><th scope="row">{s.name}</th><td>{s.os}</td><td class="mono r">{s.vcpu} vCPU</td><td
              class="mono r">{size(s.memory_bytes)}</td
            ><td class="mono r">{count(s.disks, 'disk')}</td><td
              >{s.starts ? `starts ${s.starts}` : ''}</td
            ></tr
          >{/each}</tbody
      >
    </table></Section
  >{/if}
{#if one.iso['label'] !== undefined}<Section title="Installer image"
    ><p>
      Volume <b>{one.iso['label']}</b>, {size(one.size)}, starts by {one.iso['starts']}.
    </p></Section
  >
  <Section title="Answer files" aside={count(one.answers?.length ?? 0, 'file')}
    >{#if one.answers?.length}<table class="answers">
        <thead><tr><th>Kit</th><th>File</th><th>Format</th><th>Filled in</th></tr></thead>
        <tbody
          >{#each one.answers as a (a.kit + a.path)}<tr
              ><td>{a.kit}</td><td class="mono">{a.path}</td><td>{a.format}</td><td
                >{a.asks.join(', ')}</td
              ></tr
            >{/each}</tbody
        >
      </table>
      {#if one.answers[0]?.label}<p class="quiet">
          Machines with two virtual drives get them on a second medium, {one.answers[0].label}.
        </p>{/if}{:else}<p class="quiet">
        No kit says how this installer is answered. Add a kit with <span class="mono"
          >installer</span
        >.
      </p>{/if}</Section
  >{/if}
{#if one.kernel}<Section title="Kernel"><p class="mono">{one.kernel}</p></Section>{/if}
{#if one.nics.length || one.disks.length}<Section
    title="VM, disks and networks"
    aside={one.nics.length ? count(one.nics.length, 'interface') : count(one.disks.length, 'disk')}
    ><HardwareDrawing {one} />
    {#if differences.length}<table class="adapt">
        <tbody
          >{#each differences as d, i (i)}<tr
              ><td class="w"><Weight severity={d.weight as 'note'} /></td><th scope="row"
                >{d.device}</th
              ><td>{d.was || '—'}</td><td class="quiet">{WORD[d.outcome]}</td><td
                >{d.becomes || '—'}</td
              ><td class="quiet">{d.why}</td></tr
            >{/each}</tbody
        >
      </table>{/if}</Section
  >{/if}

<style>
  .answers {
    border-collapse: collapse;
    font-size: var(--text-s);
    width: 100%;
  }
  .answers :is(th, td) {
    text-align: left;
    font-weight: 400;
    vertical-align: top;
    padding: 4px 14px 4px 0;
    border-bottom: 1px solid var(--line);
  }
  .answers th {
    color: var(--muted);
  }
  table {
    border-collapse: collapse;
    width: 100%;
  }
  td,
  th {
    padding: 4px 12px 4px 0;
    text-align: left;
    vertical-align: top;
    font-size: var(--text-s);
    border-bottom: 1px solid var(--line);
  }
  th {
    font-weight: 600;
  }
  .r {
    text-align: right;
    white-space: nowrap;
  }
  .adapt {
    margin-top: 10px;
  }
  .w {
    width: 20px;
    padding-top: 7px;
  }
  p {
    font-size: var(--text-s);
  }
</style>
