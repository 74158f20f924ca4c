<script lang="ts">
  /** Redundancy schemes of the product on the plan’s data disks, compared. */
  import { get } from '../../lib/api/client';
  import type { Edit, LayoutView, PlanView } from '../../lib/api/types';
  import { size } from '../../lib/format';
  import Section from '../ledger/Section.svelte';

  interface Props {
    plan: PlanView;
    busy: boolean;
    onedit: (edits: Edit[]) => void;
  }
  let { plan, busy, onedit }: Props = $props();
  let layouts = $state.raw<LayoutView[]>([]);
  $effect(() => {
    void plan.version;
    void get(`/plans/${plan.id}/layout`)
      .then((found) => {
        layouts = found;
      })
      .catch(() => {
        layouts = [];
      });
  });
</script>

{#if layouts.length}
  <Section
    title="Redundancy schemes"
    aside={`${layouts[0]?.disks} disks on ${layouts[0]?.domains} hosts, ${size(layouts[0]?.raw_bytes ?? 0)}`}
  >
    <table>
      <thead
        ><tr
          ><th>Scheme</th><th class="right">Usable</th><th
            class="right"
            title="Up to this fill, data can be rebuilt after losing the largest host"
            >rebuild-safe</th
          ><th class="right" title="Raw capacity that cannot be used because hosts differ"
            >unusable</th
          ><th class="right" title="Hosts, and disks anywhere, that can fail at once"
            >failures tolerated</th
          ></tr
        ></thead
      >
      <tbody
        >{#each layouts as l (l.label)}<tr class:none={l.reason} class:chosen={l.chosen}
            ><th scope="row"
              >{#if l.chosen}<b>{l.label}</b>{:else}<button
                  class="take"
                  disabled={busy || l.reason !== ''}
                  title={l.reason || `Use ${l.label}`}
                  onclick={() => onedit(l.edits ?? [])}>{l.label}</button
                >{/if}</th
            >{#if l.reason}<td colspan="4" class="quiet">{l.reason}</td>{:else}<td
                class="mono right">{size(l.usable_bytes)}</td
              ><td class="mono right">{size(l.safe_bytes)}</td><td class="mono right"
                >{l.wasted_bytes > 2 ** 20 ? size(l.wasted_bytes) : '–'}</td
              ><td class="mono right">{l.survives_domains}</td>{/if}</tr
          >{/each}</tbody
      >
    </table>
    <p class="quiet">
      {layouts.some((l) => l.chosen)
        ? 'The plan’s scheme is bold. Select another to use it. '
        : ''}Fragments of one chunk are always on different hosts. Rebuild-safe: up to this fill,
      data can be rebuilt after losing the largest host.
    </p>
  </Section>
{/if}

<style>
  .take {
    border: 0;
    background: none;
    padding: 0;
    color: var(--accent);
    text-decoration: underline;
    text-underline-offset: 3px;
    cursor: pointer;
    font: inherit;
  }
  .take:disabled {
    color: var(--muted);
    text-decoration: none;
    cursor: default;
  }
  .chosen {
    background: var(--accent-wash);
  }
  .chosen b {
    font-weight: 600;
  }
  table {
    width: 100%;
    border-collapse: collapse;
    font-size: var(--text-s);
  }
  th,
  td {
    text-align: left;
    padding: 4px 0 4px 8px;
    border-bottom: 1px solid var(--line);
    font-weight: 400;
    white-space: nowrap;
  }
  th:first-child {
    padding-left: 0;
  }
  td[colspan] {
    white-space: normal;
  }
  thead th {
    color: var(--muted);
  }
  .right {
    text-align: right !important;
  }
  .none th {
    color: var(--muted);
  }
</style>
