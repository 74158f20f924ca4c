<script lang="ts">
  /** VMs that exist become nodes of a plan: which is which, and what the plan would have made otherwise. */
  import { send } from '../../lib/api/client';
  import type { AdoptionView } from '../../lib/api/types';
  import { count, size } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';

  interface Props {
    plan: string;
    onbegun: () => unknown;
    onfound: () => void;
    onclose: () => void;
  }
  let { plan, onbegun, onfound, onclose }: Props = $props();
  type Row = AdoptionView['nodes'][number]['rows'][number];
  const THEN = [
    ['plan', 'the plan takes over'],
    ['run', 'the next run changes'],
    ['stays', 'stays'],
  ] as const;
  let view = $state.raw<AdoptionView | null>(null),
    chosen = $state.raw<Record<string, string>>({}),
    stops = $state.raw<string[]>([]),
    busy = $state(false);
  let mine = $derived(view?.nodes.filter((one) => one.vm) ?? []);
  let troubles = $derived(mine.filter((one) => one.troubles.length).length);
  let unread = $derived(Object.entries(view?.unread ?? {}));
  async function look(vms: Record<string, string>) {
    busy = true;
    try {
      view = await send('POST', `/deployments/${plan}/adoptable`, { vms });
      chosen = vms;
    } catch (e: unknown) {
      notices.problem(e);
    }
    busy = false;
  }
  $effect(() => {
    void look({});
  });
  async function adopt() {
    busy = true;
    const vms = Object.fromEntries(mine.map((one) => [one.node, one.vm]));
    try {
      const begun = await send('POST', `/deployments/${plan}/adopt`, { vms });
      stops = begun.findings.filter((f) => f.severity === 'blocker').map((f) => f.message);
      if (begun.run) onbegun();
      else onfound();
    } catch (e: unknown) {
      notices.problem(e);
    }
    busy = false;
  }
  /** VMs that no other node has. */
  const free = (node: string) =>
    view?.vms.filter((one) => !mine.some((m) => m.vm === one.vm && m.node !== node)) ?? [];
  const differing = (rows: Row[]) => rows.filter((row) => !row.same);
  /** What is otherwise, by what becomes of it. */
  const grouped = (rows: Row[]) =>
    THEN.map(([then, label]) => ({
      label,
      rows: differing(rows).filter((row) => row.then === then),
    })).filter((one) => one.rows.length);
</script>

<Dialog title="Adopt VMs" wide {onclose}>
  {#if view}
    <p>
      Choose which VM each node is. Adopting marks the VM and checks that it answers; it runs on as
      it is. A rollback takes the mark away again. Nodes without a VM are created by a later run.
    </p>
    {#if unread.length}<p class="alarm">
        Not read: {unread.map(([host, why]) => `${host} (${why})`).join('; ')}. Their VMs may be
        missing here.
      </p>{/if}
    {#if !view.vms.length}<p>
        No VM without a mark was found on the hosts of this plan’s bay. Choose another bay, or roll
        the plan out.
      </p>
    {:else}
      <div class="scroll">
        <table>
          <thead><tr><th>Node</th><th>VM</th><th>Otherwise than planned</th></tr></thead>
          <tbody>
            {#each view.nodes as one (one.node)}<tr>
                <th scope="row">{one.name || one.node}<span class="quiet">{one.node}</span></th>
                <td
                  ><select
                    aria-label="VM of {one.node}"
                    disabled={busy}
                    value={one.vm}
                    onchange={(e) => void look({ ...chosen, [one.node]: e.currentTarget.value })}
                    ><option value="">none</option>{#each free(one.node) as vm (vm.vm)}<option
                        value={vm.vm}
                        >{vm.name} on {vm.host}: {vm.vcpu} vCPU, {size(vm.memory_bytes)}, {count(
                          vm.disks,
                          'disk',
                        )}{vm.running ? '' : ', off'}</option
                      >{/each}</select
                  >{#if one.proposed && one.vm}<span class="quiet">proposed</span>{/if}</td
                >
                <td>
                  {#each one.troubles as why (why)}<p class="alarm">Not possible: {why}</p>{/each}
                  {#if one.vm && !differing(one.rows).length}as planned{/if}
                  {#if differing(one.rows).length}<dl>
                      {#each grouped(one.rows) as group (group.label)}<dt>{group.label}</dt>
                        <dd>
                          {#each group.rows as row (row.label)}<span
                              >{row.label} <b>{row.found || 'none'}</b>
                              <span class="quiet">planned {row.planned || 'none'}</span></span
                            >{/each}
                        </dd>{/each}
                    </dl>{/if}
                </td>
              </tr>{/each}
          </tbody>
        </table>
      </div>
      {#each stops as why (why)}<p class="alarm" role="alert">{why}</p>{/each}
      <div class="acts">
        <Button
          kind="main"
          disabled={busy || !mine.length || troubles > 0}
          onclick={() => void adopt()}
          >{busy ? 'Reading …' : `Adopt ${count(mine.length, 'VM')}`}</Button
        ><Button onclick={onclose}>Cancel</Button>
        {#if troubles}<span class="quiet"
            >{count(troubles, 'VM')} cannot be adopted as {troubles === 1
              ? 'it is'
              : 'they are'}</span
          >{/if}
      </div>{/if}
  {:else}<p class="quiet">Reading the VMs on the hosts of this plan’s bay …</p>{/if}
</Dialog>

<style>
  .scroll {
    max-height: 56vh;
    overflow: auto;
    margin: 10px 0;
    border: 1px solid var(--line);
  }
  table {
    border-collapse: collapse;
    width: 100%;
    font-size: var(--text-s);
  }
  thead th {
    position: sticky;
    top: 0;
    background: var(--surface);
    border-bottom: 1px solid var(--strong-line);
  }
  th,
  td {
    text-align: left;
    vertical-align: top;
    padding: 6px 10px;
    border-bottom: 1px solid var(--line);
    font-weight: 400;
  }
  tbody th {
    font-weight: 600;
    white-space: nowrap;
  }
  tbody th span,
  td > .quiet {
    display: block;
    font-weight: 400;
  }
  select {
    max-width: 290px;
  }
  dl {
    display: grid;
    grid-template-columns: max-content minmax(0, 1fr);
    gap: 1px 10px;
    margin: 0;
  }
  dt {
    color: var(--muted);
  }
  dd {
    margin: 0;
  }
  dd > span {
    display: block;
  }
  .alarm {
    color: var(--blocker);
    margin: 0 0 4px;
  }
  .acts {
    display: flex;
    gap: 10px;
    align-items: baseline;
  }
</style>
