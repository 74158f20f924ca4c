<script lang="ts">
  /** Runs as rows; how long each took is drawn beside the others. */
  import { ago, span, utc } from '../../lib/format';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import { isOpen, MARKS, type RunRow } from './overview';
  let { list }: { list: RunRow[] } = $props();
  let now = $state(Date.now() / 1000);
  $effect(() => {
    const timer = setInterval(() => {
      now = Date.now() / 1000;
    }, 1000);
    return () => clearInterval(timer);
  });
  function took(row: RunRow): number {
    if (row.ended !== null) return Math.max(1, row.ended - row.started);
    return isOpen(row) ? Math.max(1, now - row.started) : 0;
  }
  let longest = $derived(Math.max(1, ...list.map(took)));
</script>

<table>
  <thead
    ><tr><th>State</th><th>What</th><th>Kind</th><th>Started</th><th>Duration</th><th>Run</th></tr
    ></thead
  >
  <tbody
    >{#each list as row (row.id)}<tr
        ><td><StateMark state={MARKS[row.state] ?? 'planned'} label="" /> {row.words}</td><th
          scope="row"><a href={row.href}>{row.what}</a></th
        ><td>{row.kind}</td><td title={utc(row.started)}>{ago(now - row.started)}</td><td
          class="took"
          >{#if took(row)}<span class="bar" style:width={`${(60 * took(row)) / longest}px`}></span>
            {span(took(row))}{/if}</td
        ><td class="mono quiet">{row.id}</td></tr
      >{/each}</tbody
  >
</table>

<style>
  table {
    width: 100%;
    border-collapse: collapse;
  }
  th,
  td {
    text-align: left;
    padding: 6px 12px 6px 0;
    border-bottom: 1px solid var(--line);
    font-weight: 400;
  }
  thead th {
    color: var(--muted);
  }
  th a {
    display: inline-block;
    max-width: 44ch;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    vertical-align: bottom;
  }
  .took {
    white-space: nowrap;
  }
  .bar {
    display: inline-block;
    height: 8px;
    background: var(--role-1);
  }
</style>
