<script lang="ts">
  /** Where the chosen cell has its value from, and what can be done with sheet and wall. */
  import { READINGS, type Reading } from '../wall/wall';
  import type { Place } from './place';
  import type { Rollout } from './rollout.svelte';
  import Tools from './Tools.svelte';

  interface Props {
    rollout: Rollout;
    place: Place;
    node: string;
    filter: string;
    ontables: () => void;
    oncolumns: () => void;
  }
  let { rollout, place, node, filter = $bindable(), ontables, oncolumns }: Props = $props();
  const ORIGINS: Record<string, string> = {
    node: 'set here for this node · Delete puts it back',
    group: 'from its role',
    plan: 'from the plan, for every node',
    pool: 'from the pool or its network',
    computed: 'computed',
    kit: 'the kit’s default',
    package: 'the package’s default',
    shared: 'from shared values the plan includes',
    unused: 'this node has no such value',
    none: 'not set',
  };
  let origin = $derived.by(() => {
    const plan = rollout.plan;
    const cell = plan?.nodes.find((one) => one.id === node)?.cells[place.column];
    const column = plan?.columns.find((one) => one.id === place.column);
    return cell && column ? `${column.label}: ${ORIGINS[cell.origin ?? 'none']}` : '';
  });
</script>

<Tools bind:filter>
  <span class="quiet" role="status"
    >{#if rollout.trying}<b>Preview.</b> Esc cancels, Enter applies.{:else}{origin}{/if}</span
  >
  <span class="right quiet"
    ><select
      aria-label="What the wall shows"
      value={place.wall}
      onchange={(e) => place.go({ wall: e.currentTarget.value as Reading })}
      >{#each READINGS as [id, label] (id)}<option value={id}>wall: {label}</option>{/each}</select
    ><button onclick={oncolumns}>Columns</button><button onclick={ontables}>Tables</button><button
      disabled={!rollout.canUndo}
      onclick={() => rollout.undo()}>Undo</button
    ><button disabled={!rollout.canRedo} onclick={() => rollout.redo()}>Redo</button></span
  >
</Tools>
