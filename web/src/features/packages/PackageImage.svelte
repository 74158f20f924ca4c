<script lang="ts">
  /** The hardware that kits give a disk image, and what its first start is told. */
  import type { PackageView } from '../../lib/api/types';
  import { size } from '../../lib/format';
  import Section from '../ledger/Section.svelte';
  import SizeTable from './SizeTable.svelte';

  let { one }: { one: PackageView } = $props();
</script>

{#each one.images ?? [] as image (image.kit + image.role)}
  <Section title={`Hardware by kit ${image.kit}`} aside={image.role}
    ><SizeTable sizes={image.sizes} thin={one.thin_bytes} full={image.disk_bytes} />
    <dl>
      <dt>System disk</dt>
      <dd>{size(image.disk_bytes)} on {image.bus}</dd>
      <dt>Interfaces</dt>
      <dd>{image.nic}</dd>
      <dt>Firmware</dt>
      <dd>{image.firmware}</dd>
      <dt>First start</dt>
      <dd>
        {#if image.asks.length}NoCloud with <span class="mono">{image.asks.join(', ')}</span
          >{:else}NoCloud with name and addresses{/if}
      </dd>
      <dt>SSH host key</dt>
      <dd>{image.console_keys ? 'read from the console' : 'trusted at first login'}</dd>
    </dl></Section
  >
{:else}
  <Section title="Hardware"
    ><p class="quiet">
      A disk image states no hardware. Add a kit with <span class="mono">image</span> that takes
      product
      <b>{one.product}</b>, or name the image as a kit expects it.
    </p></Section
  >
{/each}

<style>
  dl {
    display: grid;
    grid-template-columns: max-content 1fr;
    gap: 4px 18px;
    margin: 12px 0 0;
    font-size: var(--text-s);
  }
  dt {
    color: var(--muted);
  }
  dd {
    margin: 0;
    overflow-wrap: anywhere;
  }
</style>
