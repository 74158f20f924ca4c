<script lang="ts">
  /** VMs of a host; those created here lead to their run. */
  import type { OneHost } from '../../lib/api/types';
  import { count, size } from '../../lib/format';

  let { one }: { one: OneHost } = $props();
  let f = $derived(one.facts);
</script>

<section>
  <h2>VMs <span>{count(f.guests?.length ?? 0, 'VM')}</span></h2>
  <table>
    <tbody
      >{#each f.guests ?? [] as g (g.name)}<tr
          ><th scope="row">{g.name}</th><td>{g.running ? 'runs' : 'stopped'}</td><td class="mono"
            >{size(g.memory_bytes ?? 0)}, {g.vcpu} vCPU</td
          ><td>{g.networks?.join(', ')}</td><td class="quiet mono">{g.disks?.join(', ')}</td><td
            >{#if g.mark}{#if g.mark.plan}<a href={`/plans/${g.mark.plan}/run?run=${g.mark.run}`}
                  >created here, {g.mark.node} of {g.mark.plan}</a
                >{:else}created here, run {g.mark.run}{/if}{/if}</td
          ></tr
        >{/each}</tbody
    >
  </table>
</section>

<style>
  section {
    margin-bottom: 18px;
  }
  h2 {
    font-size: var(--text-m);
    font-weight: 600;
    margin-bottom: 6px;
  }
  h2 span {
    font-weight: 400;
    color: var(--muted);
    font-size: var(--text-s);
    margin-left: 10px;
  }
  table {
    border-collapse: collapse;
    width: 100%;
    font-size: var(--text-s);
  }
  th,
  td {
    text-align: left;
    font-weight: 400;
    padding: 3px 14px 3px 0;
    border-bottom: 1px solid var(--line);
  }
  th {
    font-weight: 600;
  }
</style>
