<script lang="ts">
  /** File, digest, manifest and signature of a package. */
  import type { PackageView } from '../../lib/api/types';
  import { moment, size, utc } from '../../lib/format';
  import Section from '../ledger/Section.svelte';
  import { SIGNED } from './trustwords';

  let { one }: { one: PackageView } = $props();
</script>

<Section title="Identity"
  ><dl>
    <dt>File</dt>
    <dd>{one.file_name}, {size(one.size)}</dd>
    <dt>Imported</dt>
    <dd title={utc(one.added_at)}>{moment(one.added_at)}</dd>
    <dt>SHA-256</dt>
    <dd class="mono">{one.sha256}</dd>
    <dt>Manifest</dt>
    <dd>
      {one.manifest === 'absent' ? 'none' : `${one.manifest}, ${one.algorithm.toUpperCase()}`}
    </dd>
    <dt>Signature</dt>
    <dd>
      {SIGNED[one.signature]}{#if one.signer}<br />{one.signer.subject}<br /><span class="quiet"
          >by {one.signer.issuer}; {new Date(one.signer.not_before * 1000).toLocaleDateString()} to {new Date(
            one.signer.not_after * 1000,
          ).toLocaleDateString()}</span
        ><br /><span class="mono fp">{one.signer.fingerprint}</span
        >{/if}{#if one.signature_note && one.signature !== 'verified'}<br /><span class="quiet"
          >{one.signature_note}</span
        >{/if}
    </dd>
    <dt>Plans</dt>
    <dd>
      {#each one.plans as p, i (p)}{i ? ', ' : ''}<a href={`/plans/${p}`}>{p}</a>{:else}none yet{/each}
    </dd>
  </dl></Section
>

<style>
  dl {
    --label: 66px;
  }
  .fp {
    font-size: 10.5px;
  }
</style>
