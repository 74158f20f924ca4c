<script lang="ts">
  /** What a run would change of what is deployed, and making the selected node again. */
  import type { PlanView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';

  interface Props {
    plan: PlanView;
    changes: NonNullable<PlanView['changes']>;
    node: string;
    busy: boolean;
    onselect: (node: string, column: string) => void;
    onagain: (node: string) => void;
  }
  let { plan, changes, node, busy, onselect, onagain }: Props = $props();
  let added = $derived(new Set((changes.adds ?? []).map((one) => one.node)));
  let own = $derived(plan.nodes.find((one) => one.id === node));
  let stands = $derived(own !== undefined && !added.has(own.id));
</script>

<Section title="Deployed" aside={count(changes.nodes ?? 0, 'node')}>
  <ul>
    {#each changes.adds ?? [] as one (one.node)}<li>
        <span class="what">add</span><Button kind="link" onclick={() => onselect(one.node, 'host')}
          >{one.name}</Button
        ><span class="quiet">{one.host ? `on ${one.host}` : 'no host yet'}</span>
      </li>{/each}
    {#each changes.removes ?? [] as one (one.node)}{#if !added.has(one.node)}<li>
          <span class="what gone">remove</span><span>{one.name}</span><span class="quiet"
            >from {one.host}</span
          >
        </li>{/if}{/each}
    {#each changes.differs ?? [] as one, i (i)}<li>
        <span class="what quiet">stays</span><Button
          kind="link"
          onclick={() => onselect(one.node, one.column)}>{one.name}</Button
        ><span class="quiet"
          >{one.label} as built: {one.was || 'nothing'}, planned {one.now || 'nothing'}</span
        >
      </li>{/each}
  </ul>
  {#if !changes.adds?.length && !changes.removes?.length}<p class="quiet">
      Change the number of nodes to grow or shrink.
    </p>{/if}
  {#if own && stands}<Button kind="link" disabled={busy} onclick={() => onagain(own.id)}
      >Make {own.name} again …</Button
    >{/if}
</Section>

<style>
  ul {
    list-style: none;
    margin: 0 0 6px;
    padding: 0;
    font-size: var(--text-s);
  }
  li {
    display: grid;
    grid-template-columns: 58px minmax(0, max-content) minmax(0, 1fr);
    gap: 8px;
    padding: 2px 0;
    align-items: baseline;
  }
  .what {
    font-weight: 600;
  }
  .gone {
    color: var(--blocker);
  }
  p {
    font-size: var(--text-s);
    margin: 0 0 6px;
  }
</style>
