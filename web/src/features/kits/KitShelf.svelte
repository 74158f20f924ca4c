<script lang="ts">
  /** All kits of this server, and files that are none. */
  import type { KitList } from '../../lib/api/types';
  import { count } from '../../lib/format';

  let { shelf }: { shelf: KitList } = $props();
  let filter = $state('');
  let found = $derived(
    shelf.kits.filter((kit) =>
      `${kit.title} ${kit.takes} ${kit.summary} ${kit.roles.join(' ')}`
        .toLowerCase()
        .includes(filter.toLowerCase()),
    ),
  );
</script>

{#if shelf.faulty.length}<ul class="faulty" aria-label="Files that are no kit">
    {#each shelf.faulty as one (one.file)}<li>
        <b class="mono">kits/{one.file}</b>
        {one.message}
      </li>{/each}
  </ul>{/if}
{#if shelf.kits.length > 8}<label class="filter"
    >Filter <input bind:value={filter} placeholder="product, role" /></label
  >{/if}
<table>
  <thead>
    <tr
      ><th>Kit</th><th>Package</th><th>Roles</th><th class="right">Checks</th><th class="right"
        >Plans</th
      ><th>Origin</th></tr
    >
  </thead>
  <tbody>
    {#each found as kit (kit.id)}<tr>
        <td
          ><a href={`/kits/${kit.id}`}><b>{kit.title}</b></a><span class="quiet">{kit.summary}</span
          ></td
        >
        <td>{kit.takes}</td>
        <td>{kit.roles.join(', ')}</td>
        <td class="right mono">{kit.checks}</td>
        <td class="right mono">{kit.plans || '–'}</td>
        <td>{kit.own ? 'own' : 'shipped'}</td>
      </tr>{/each}
  </tbody>
</table>
{#if !found.length}<p class="quiet">
    {count(shelf.kits.length, 'kit')}, none fits the filter.
  </p>{/if}

<style>
  .faulty {
    list-style: none;
    margin: 10px 0;
    padding: 6px 12px;
    border-left: 3px solid var(--blocker);
  }
  table {
    width: 100%;
    margin-top: 10px;
    border-collapse: collapse;
  }
  th,
  td {
    text-align: left;
    padding: 7px 14px 7px 0;
    border-bottom: 1px solid var(--line);
    vertical-align: top;
  }
  th {
    font-size: var(--text-s);
    color: var(--muted);
    font-weight: 400;
  }
  .right {
    text-align: right;
  }
  td .quiet {
    display: block;
    max-width: 62ch;
  }
  .filter {
    display: block;
    padding: 10px 0 0;
    font-size: var(--text-s);
    color: var(--muted);
  }
</style>
