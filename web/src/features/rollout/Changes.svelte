<script lang="ts">
  /** What a run would change of what is deployed, and making the selected node again. */
  import type { PlanView } from '../../lib/api/types';
  import { count, size } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';

  interface Props {
    plan: PlanView;
    changes: NonNullable<PlanView['changes']>;
    node: string;
    busy: boolean;
    onselect: (node: string, column: string) => void;
    onagain: (node: string) => void;
    onstage: (stage: string) => void;
    onrenew: (column: string) => void;
    onlost: (host: string) => void;
    onformer: () => void;
    onkeys: (node: string, name: string) => void;
    onretire: () => void;
  }
  let {
    plan,
    changes,
    node,
    busy,
    onselect,
    onagain,
    onstage,
    onrenew,
    onlost,
    onformer,
    onkeys,
    onretire,
  }: Props = $props();
  let added = $derived(new Set((changes.adds ?? []).map((one) => one.node)));
  let gone = $derived(new Set((changes.removes ?? []).map((one) => one.node)));
  let own = $derived(plan.nodes.find((one) => one.id === node));
  type Resized = NonNullable<Props['changes']['resizes']>[number];
  function sizes(one: Resized): string {
    const parts = [];
    if (one.was_vcpu !== one.now_vcpu) parts.push(`${one.was_vcpu} → ${one.now_vcpu} vCPU`);
    if (one.was_memory !== one.now_memory)
      parts.push(`${size(one.was_memory)} → ${size(one.now_memory)}`);
    return parts.join(', ');
  }
  let upgraded = $derived(new Set((changes.upgrades ?? []).map((one) => one.node)));
  /** “Gauge Collector 4.2.0 → 4.3.0”: what both titles begin with is said once. */
  function versions(was: string, now: string): string {
    const words = now.split(' ');
    let same = 0;
    while (same < words.length - 1 && words[same] === was.split(' ')[same]) same++;
    return `${was} → ${words.slice(same).join(' ')}`;
  }
  type Moved = NonNullable<Props['changes']['moves']>[number];
  function way(one: Moved): string {
    const { was_host, now_host, was_store, now_store } = one;
    if (was_host === now_host) return `${was_store} → ${now_store} on ${now_host}`;
    if (was_store === now_store) return `${was_host} → ${now_host}, its disks stay on ${now_store}`;
    return `${was_host} → ${now_host}, its disks from ${was_store} to ${now_store}`;
  }
  const NAMED = 3;
  const WAYS: Record<string, string> = {
    system: 'system disk replaced, with a restart each',
    again: 'deleted with their disks and made again, one by one',
    drive: 'system drive written again, data drives stay, one by one',
    '': 'the kit does not say how they get it',
  };
  let bare = $derived(
    new Set((changes.removes ?? []).filter((one) => one.on_machine).map((one) => one.node)),
  );
  /** What being made again is for a node on a bare machine; the dialog names its drives. */
  function again(way: string, node: string): string {
    return way === 'again' && bare.has(node) ? 'removed and made again, one by one' : '';
  }
  let idle = $derived.by(() => {
    const { adds, removes, resizes, grows, upgrades, moves, alters } = changes;
    return ![adds, removes, resizes, grows, upgrades, moves, alters].some((one) => one?.length);
  });
  type Altered = NonNullable<Props['changes']['alters']>[number];
  /** Nodes that get the same settings the same way are one line. */
  let settings = $derived.by(() => {
    const found = new Map<string, Altered[]>();
    for (const one of changes.alters ?? []) {
      const key = `${one.how} ${one.values.map((v) => `${v.column} ${v.was} ${v.now}`).join()}`;
      found.set(key, [...(found.get(key) ?? []), one]);
    }
    return [...found.entries()];
  });
  const HOW: Record<string, string> = {
    call: 'told while they run',
    restart: 'with a restart each, one after the other',
    again: 'deleted with their disks and made again, one by one',
  };
  /** Hosts and machines with deployed nodes that could not be read. */
  let silent = $derived(
    plan.hosts
      .filter((host) => host.trouble)
      .map((host) => ({
        host,
        nodes: plan.nodes.filter((one) => one.host === host.name && !added.has(one.id)),
      }))
      .filter((one) => one.nodes.length),
  );
  let stands = $derived(own !== undefined && !added.has(own.id));
</script>

<Section title="Deployed" aside={count(changes.nodes ?? 0, 'node')}>
  <ul>
    {#each changes.adds ?? [] as one (one.node)}{#if !upgraded.has(one.node)}<li>
          <span class="what">{gone.has(one.node) ? 'make again' : 'add'}</span><Button
            kind="link"
            onclick={() => onselect(one.node, 'host')}>{one.name}</Button
          ><span class="quiet">{one.host ? `on ${one.host}` : 'no host yet'}</span>
        </li>{/if}{/each}
    {#each Object.entries(WAYS) as [way, text] (way)}
      {@const some = (changes.upgrades ?? []).filter((one) => one.way === way)}
      {@const first = some[0]}
      {#if first}<li class="wide">
          <span class="what" class:quiet={!way}>{way ? 'upgrade' : 'stays'}</span>
          <span
            >{#each some.slice(0, NAMED) as one, i (one.node)}<Button
                kind="link"
                onclick={() => onselect(one.node, 'host')}>{one.name}</Button
              >{i < Math.min(some.length, NAMED) - 1
                ? ', '
                : ' '}{/each}{#if some.length > NAMED}<span
                title={some.map((one) => one.name).join(', ')}
                >and {count(some.length - NAMED, 'more node')}</span
              >{/if}<br /><span class="quiet"
              >{versions(first.was, first.now)}<br />{again(way, first.node) || text}</span
            ></span
          >
        </li>{/if}{/each}
    {#each changes.removes ?? [] as one (one.node)}{#if !added.has(one.node)}<li>
          <span class="what gone">remove</span><span>{one.name}</span><span class="quiet"
            >from {one.host}</span
          >
        </li>{/if}{/each}
    {#each changes.grows ?? [] as one (one.node + one.disk)}<li>
        <span class="what">{one.was_bytes ? 'grow' : 'add disk'}</span><span>{one.name}</span><span
          class="quiet"
          >{one.disk}: {one.was_bytes ? `${size(one.was_bytes)} → ` : ''}{size(one.now_bytes)},
          while it runs</span
        >
      </li>{/each}
    {#each changes.resizes ?? [] as one (one.node)}<li>
        <span class="what">resize</span><Button
          kind="link"
          onclick={() => onselect(one.node, 'size')}>{one.name}</Button
        ><span class="quiet">{sizes(one)}, restarts it</span>
      </li>{/each}
    {#each changes.moves ?? [] as one (one.node)}<li class="wide">
        <span class="what">move</span><span
          ><Button kind="link" onclick={() => onselect(one.node, 'host')}>{one.name}</Button><br
          /><span class="quiet">{way(one)}; off meanwhile</span></span
        >
      </li>{/each}
    {#each settings as [key, some] (key)}
      {@const first = some[0]}
      {#if first}<li class="wide">
          <span class="what">set</span><span
            >{#each first.values as v, i (v.column)}{i ? ', ' : ''}{v.label}
              {#if v.secret}<span class="quiet">(new)</span>{:else}<span class="quiet"
                  >{v.was || 'nothing'} → {v.now || 'nothing'}</span
                >{/if}{/each}<br /><span class="quiet" title={some.map((n) => n.name).join(', ')}
              >{some.length === 1 ? first.name : count(some.length, 'node')}, {again(
                first.way,
                first.node,
              ) || HOW[first.way]}{#if first.interrupts}<br />{first.interrupts}{/if}</span
            ></span
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
  {#if idle}<p class="quiet">
      Change the number or the size of nodes, their package or settings, and a run does what
      differs.
    </p>{/if}
  {#if own && stands}<Button kind="link" disabled={busy} onclick={() => onagain(own.id)}
      >Make {own.name} again …</Button
    >
    <Button
      kind="link"
      title="SSH host key and certificates by which it is known"
      onclick={() => onkeys(own.id, own.name)}>Keys …</Button
    >{/if}
  {#if silent.length}<h3>Not answering</h3>
    <ul>
      {#each silent as { host, nodes } (host.name)}<li class="stage">
          <span title={host.trouble}>{host.name}</span><span
            class="quiet"
            title={nodes.map((one) => one.name).join(', ')}>{count(nodes.length, 'node')}</span
          ><Button
            kind="link"
            disabled={busy}
            title="Its nodes are made again elsewhere; what is on it stays there"
            onclick={() => onlost(host.name)}>Lost for good …</Button
          >
        </li>{/each}
    </ul>{/if}
  {#if changes.renewable?.length}<h3>Passwords and certificates</h3>
    <ul>
      {#each changes.renewable as one (one.column)}<li class="stage">
          <span>{one.label}</span><span></span><Button
            kind="link"
            disabled={busy}
            title="A new one is made; deployed nodes get it with the next run"
            onclick={() => onrenew(one.column)}>Renew</Button
          >
        </li>{/each}
    </ul>{/if}
  {#if changes.stages?.length}<h3>Stages of the setup</h3>
    <ul>
      {#each changes.stages as one (one.id)}<li class="stage">
          <span>{one.label}</span><span class="quiet"
            >{count(one.steps, 'step')}, {count(one.checks, 'check')}</span
          ><Button
            kind="link"
            disabled={busy}
            title="Steps that are done are not done twice; its checks are made again"
            onclick={() => onstage(one.id)}>Run again</Button
          >
        </li>{/each}
    </ul>{/if}
  {#if changes.upgraded}<p>
      <Button kind="link" disabled={busy} onclick={onformer}>Former system disks …</Button>
    </p>{/if}
  <p>
    <Button kind="link" disabled={busy} onclick={onretire}
      >Retire {changes.nodes === 1 ? 'this node' : `all ${changes.nodes ?? 0} nodes`} …</Button
    >
  </p>
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
  .wide {
    grid-template-columns: 58px minmax(0, 1fr);
  }
  .stage {
    grid-template-columns: minmax(0, 1fr) max-content max-content;
  }
  h3 {
    font-size: var(--text-s);
    margin: 8px 0 2px;
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
