<script lang="ts">
  /** What becomes of bare machines and their drives when their nodes go or are made again. */
  import type { ChangesAnswer } from '../../lib/api/types';
  import { count } from '../../lib/format';

  interface Props {
    nodes: NonNullable<ChangesAnswer['removes']>;
    /** Nodes that are made afterwards, by id. */
    added: Set<string>;
  }
  let { nodes, added }: Props = $props();
  let words = $derived.by(() => {
    const again = nodes.filter((one) => added.has(one.node)).length;
    const off = count(nodes.length - again, 'machine');
    if (!again) return `Switches ${off} off.`;
    const made = `Installs ${count(again, 'node')} again under the same name and address.`;
    return again < nodes.length ? `Switches ${off} off. ${made}` : made;
  });
</script>

{#snippet drives(serials: string[])}{#if serials.length}<span class="mono"
      >{serials.join(', ')}</span
    >{:else}<span class="none quiet">none</span>{/if}{/snippet}

{#if nodes.length}<p>{words}</p>
  <div class="scroll">
    <table>
      <thead>
        <tr><th>Node</th><th>Machine</th><th>Wiped</th><th>Not wiped</th></tr>
      </thead>
      <tbody>
        {#each nodes as one (one.node)}<tr>
            <td
              >{one.name}<br /><span class="quiet"
                >{added.has(one.node) ? 'made again' : 'removed, switched off'}</span
              ></td
            >
            <td>{one.host}</td>
            <td>{@render drives(one.wiped ?? [])}</td>
            <td>{@render drives(one.left ?? [])}</td>
          </tr>{/each}
      </tbody>
    </table>
  </div>
  <p class="quiet">
    Wiped drives cannot be restored. Drives that are not wiped keep what is on them; the machine's
    page wipes them.
  </p>{/if}

<style>
  .scroll {
    max-height: 240px;
    overflow: auto;
    margin-bottom: 8px;
  }
  table {
    border-collapse: collapse;
    width: 100%;
    font-size: var(--text-s);
  }
  th,
  td {
    text-align: left;
    vertical-align: top;
    padding: 3px 10px 3px 0;
    border-bottom: 1px solid var(--line);
    overflow-wrap: anywhere;
  }
  th {
    font-weight: 600;
    white-space: nowrap;
  }
  .none {
    white-space: nowrap;
  }
  p {
    margin: 0 0 8px;
  }
</style>
