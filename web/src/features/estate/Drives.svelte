<script lang="ts">
  /** What a bay's free drives would come to, taken by a rule: ways to keep data on them, side by side. */
  import { ApiError, get } from '../../lib/api/client';
  import type { LayoutView } from '../../lib/api/types';
  import { count, size } from '../../lib/format';

  interface Props {
    bays: string[];
  }
  let { bays }: Props = $props();
  let bay = $state(''),
    kind = $state(''),
    least = $state('0'),
    most = $state('0');
  let found = $state.raw<LayoutView[]>([]),
    problem = $state('');
  let asked = 0;
  let at = $derived(bays.includes(bay) ? bay : (bays[0] ?? ''));
  $effect(() => {
    const own = ++asked,
      rule = `kind=${kind}&least_gib=${Number(least) || 0}&most=${Math.floor(Number(most)) || 0}`;
    if (!at) return;
    get(`/estate/bays/${encodeURIComponent(at)}/layout?${rule}`)
      .then((answer) => {
        if (own === asked) {
          found = answer;
          problem = '';
        }
      })
      .catch((error: unknown) => {
        if (own === asked) {
          found = [];
          problem =
            error instanceof ApiError
              ? error.problem.detail || error.problem.title || ''
              : String(error);
        }
      });
  });
  let widest = $derived(Math.max(1, ...found.map((one) => one.raw_bytes)));
</script>

<div class="rule">
  <label
    >Drives of <select
      bind:value={
        () => at,
        (v) => {
          bay = v;
        }
      }
      >{#each bays as one (one)}<option>{one}</option>{/each}</select
    ></label
  >
  <label
    >kind <select bind:value={kind}
      ><option value="">any</option><option>SSD</option><option>HDD</option></select
    ></label
  >
  <label>each at least <input inputmode="decimal" bind:value={least} /> GiB</label>
  <label>of each machine at most <input inputmode="numeric" bind:value={most} /> (0: all)</label>
</div>
{#if problem}<p>
    {problem[0]?.toUpperCase()}{problem.slice(1)}. Relax the filter or free drives.
  </p>{:else if found[0]}
  <p class="quiet">
    {count(found[0].disks, 'drive')} on {count(found[0].domains, 'machine')}, {size(
      found[0].raw_bytes,
    )} raw. Fragments of one chunk are always on different machines.
  </p>
  <table>
    <thead
      ><tr
        ><th>Redundancy</th><th class="wide"
          ><span class="visually-hidden">Share of raw capacity</span></th
        ><th class="right">Usable</th><th
          class="right"
          title="Up to this fill, data can be rebuilt after losing the largest machine"
          >Rebuild-safe</th
        ><th class="right" title="Raw room that unevenness keeps from being used">Unusable</th><th
          class="right"
          title="Machines that can fail at once">Failures tolerated</th
        ></tr
      ></thead
    >
    <tbody
      >{#each found as l (l.label)}<tr
          ><th scope="row">{l.label}</th>{#if l.reason}<td colspan="5" class="quiet">{l.reason}</td
            >{:else}
            <td
              ><span class="bar" aria-hidden="true"
                ><i class="usable" style:width={`${(100 * l.usable_bytes) / widest}%`}></i><i
                  class="waste"
                  style:width={`${(100 * l.wasted_bytes) / widest}%`}
                ></i></span
              ></td
            >
            <td class="mono right">{size(l.usable_bytes)}</td><td class="mono right"
              >{size(l.safe_bytes)}</td
            ><td class="mono right">{l.wasted_bytes > 2 ** 20 ? size(l.wasted_bytes) : '–'}</td><td
              class="mono right">{l.survives_domains}</td
            >{/if}</tr
        >{/each}</tbody
    >
  </table>
{/if}

<style>
  .rule {
    display: flex;
    flex-wrap: wrap;
    gap: 6px 22px;
    padding: 10px 0;
    font-size: var(--text-s);
  }
  label {
    display: flex;
    gap: 7px;
    align-items: center;
    color: var(--soft);
  }
  select,
  input {
    font-size: var(--text-s);
  }
  input {
    width: 72px;
    text-align: right;
    font-family: var(--mono);
  }
  p {
    font-size: var(--text-s);
    margin: 4px 0 8px;
  }
  table {
    border-collapse: collapse;
    width: 100%;
    max-width: 820px;
    font-size: var(--text-s);
  }
  th,
  td {
    text-align: left;
    padding: 5px 12px 5px 0;
    border-bottom: 1px solid var(--line);
    font-weight: 400;
    white-space: nowrap;
  }
  thead th {
    color: var(--muted);
  }
  tbody th {
    font-weight: 600;
  }
  .right {
    text-align: right;
    padding-right: 0;
    padding-left: 14px;
  }
  .wide {
    width: 40%;
  }
  .bar {
    display: flex;
    height: 11px;
    border: 1px solid var(--line);
    background:
      repeating-linear-gradient(135deg, transparent 0 4px, var(--line) 4px 5px), var(--surface);
  }
  .usable {
    background: var(--role-1);
  }
  .waste {
    background: var(--blocker);
    margin-left: auto;
  }
</style>
