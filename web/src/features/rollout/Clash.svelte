<script lang="ts">
  import { get } from '../../lib/api/client';
  import type { DifferenceAnswer, Edit, PlanView } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';

  interface Props {
    plan: PlanView;
    clash: { edits: Edit[]; from: number; problem: string };
    onsettle: (mine: boolean) => void;
  }
  let { plan, clash, onsettle }: Props = $props();
  let theirs = $state.raw<DifferenceAnswer | null>(null);
  $effect(() => {
    get(`/plans/${plan.id}/difference?version=${clash.from}`)
      .then((found) => {
        theirs = found;
      })
      .catch(() => {
        theirs = null;
      });
  });
  const mine = (edit: Edit) => {
    const [level, name, ...rest] = edit.path;
    const label = (id: string) => plan.columns.find((c) => c.id === id)?.label ?? id;
    let where = edit.path.join(', ');
    if (level === 'values') where = `every node, ${label(name ?? '')}`;
    if (level === 'nodes')
      where = `${plan.nodes.find((n) => n.id === name)?.name ?? name}, ${label(rest[0] ?? '')}`;
    return `${where}: ${edit.value === null || edit.value === undefined ? 'reset' : String(edit.value)}`;
  };
</script>

<Dialog title="Edit conflict" wide>
  <p>{clash.problem}. Your edits are kept. Choose which version to use.</p>
  <div class="two">
    <section>
      <h3>What they changed</h3>
      {#if theirs}<ul>
          {#each theirs.differences.slice(0, 12) as d (d.text)}<li>{d.text}</li>{:else}<li
              class="quiet"
            >
              Nothing visible in the sheet.
            </li>{/each}
        </ul>{:else}<p class="quiet">Comparing …</p>{/if}
    </section>
    <section>
      <h3>What you were about to change</h3>
      <ul>
        {#each clash.edits.slice(0, 12) as e (e.path.join('/'))}<li>{mine(e)}</li>{/each}
      </ul>
      {#if clash.edits.length > 12}<p class="quiet">and {clash.edits.length - 12} more</p>{/if}
    </section>
  </div>
  <div class="acts">
    <Button kind="main" onclick={() => onsettle(true)}>Use mine</Button><Button
      onclick={() => onsettle(false)}>Use theirs</Button
    >
  </div>
</Dialog>

<style>
  .two {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 24px;
    margin: 14px 0;
  }
  h3 {
    font-size: var(--text-s);
    font-weight: 600;
    margin: 0 0 5px;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
    font-size: var(--text-s);
  }
  li {
    padding: 3px 0;
    border-bottom: 1px solid var(--line);
  }
  .acts {
    display: flex;
    gap: 10px;
  }
</style>
