<script lang="ts">
  /** The files of a package, each with its digest where the manifest has one. */
  import type { PackageView } from '../../lib/api/types';
  import { middle, size } from '../../lib/format';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import Section from '../ledger/Section.svelte';

  let { one }: { one: PackageView } = $props();
</script>

<Section title="Contents" aside={size(one.files.reduce((sum, f) => sum + f.size, 0))}
  ><ul>
    {#each one.files.slice(0, 200) as f (f.name)}<li title={f.sha256}>
        {#if /\.(mf|cert)$/i.test(f.name)}<i class="gap"></i>{:else}<StateMark
            state={f.state === 'verified' ? 'proved' : 'planned'}
            size={13}
          />{/if}<span>{middle(f.name, 28)}</span><span class="mono end">{size(f.size)}</span>
      </li>{/each}
  </ul>
  <p class="quiet">filled: digest verified · outline: not in manifest</p></Section
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
  .gap {
    width: 13px;
    flex: none;
  }
  p {
    font-size: var(--text-s);
  }
</style>
