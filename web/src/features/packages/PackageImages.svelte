<script lang="ts">
  /** Cached images of a package on datastores. */
  import type { PackageView } from '../../lib/api/types';
  import { moment, size } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';

  let { one, onclear }: { one: PackageView; onclear: () => void } = $props();
</script>

<Section title="Cached images" aside={String(one.copies.length)}
  >{#if one.copies.length}<ul>
      {#each one.copies as c (c.place + c.name)}<li title={c.name}>
          <span
            >{c.datastore}<span class="quiet where"
              >{c.used_by.length ? c.used_by.join(', ') : 'unused'} · last {moment(c.used_at)}</span
            ></span
          ><span class="mono end">{size(c.size)}</span>
        </li>{/each}
    </ul>
    <Button onclick={() => onclear()}>Delete unused images</Button>{:else}<p class="quiet">
      None. A run copies the image once per datastore and creates the nodes from it.
    </p>{/if}</Section
>

<style>
  ul {
    list-style: none;
    margin: 0 0 8px;
    padding: 0;
    font-size: var(--text-s);
    display: grid;
    gap: 3px;
  }
  li {
    display: flex;
    gap: 8px;
    align-items: baseline;
  }
  .end {
    margin-left: auto;
    white-space: nowrap;
  }
  .where {
    display: block;
    font-size: var(--text-xs);
    overflow-wrap: anywhere;
  }
  p {
    font-size: var(--text-s);
  }
</style>
