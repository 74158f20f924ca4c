<script lang="ts">
  /** Find anything and go there: pages, plans, runs, hosts, machines, nodes, addresses, packages, findings. */
  import { onMount, tick } from 'svelte';
  import { get } from '../../lib/api/client';
  import type { HitView, PlanLine } from '../../lib/api/types';
  import type { Early } from '../../lib/early';
  import { router } from '../../lib/router.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import { matching, ofHits, ofPlans, PLACES, type Destination } from './destinations';

  interface Command {
    text: string;
    go: () => void;
  }
  interface Props {
    plans: PlanLine[];
    commands: Command[];
    /** Findings of the page that is open. */
    findings: Destination[];
    /** What was typed before this was there. */
    early: () => Early | undefined;
    onclose: () => void;
  }
  let { plans, commands, findings, early, onclose }: Props = $props();
  const MOST = 14;
  let query = $state(''),
    at = $state(0);
  onMount(() => {
    const typed = early();
    query = typed?.text ?? '';
    if (typed?.entered) void tick().then(() => choose(0));
  });
  let hits = $state.raw<HitView[]>([]);
  let asked = 0;

  $effect(() => {
    const text = query.trim();
    const own = ++asked;
    if (text.length < 2) {
      hits = [];
      return;
    }
    const timer = setTimeout(() => {
      get(`/search?text=${encodeURIComponent(text)}`)
        .then((found) => {
          if (own === asked) hits = found;
        })
        .catch(() => undefined); // the silence of the server is said elsewhere
    }, 120);
    return () => clearTimeout(timer);
  });
  let found = $derived.by(() => {
    const own = commands.filter((one) => one.text.toLowerCase().includes(query.toLowerCase()));
    const places = matching([...ofPlans(plans), ...PLACES, ...findings], query);
    return [
      ...places.slice(0, 8).map((one) => ({ ...one, go: () => router.go(one.href) })),
      ...ofHits(hits).map((one) => ({ ...one, go: () => router.go(one.href) })),
      ...own.map((one) => ({ ...one, kind: 'do', detail: '' })),
    ].slice(0, MOST);
  });
  function choose(i: number) {
    const one = found[i];
    onclose();
    one?.go();
  }
  function keys(event: KeyboardEvent) {
    if (event.key === 'ArrowDown') at = Math.min(found.length - 1, at + 1);
    else if (event.key === 'ArrowUp') at = Math.max(0, at - 1);
    else if (event.key === 'Enter') choose(at);
    else return;
    event.preventDefault();
  }
</script>

<Dialog title="Go to" {onclose}>
  <input
    bind:value={query}
    role="combobox"
    aria-expanded="true"
    aria-controls="found"
    aria-activedescendant={found.length ? `found-${at}` : undefined}
    aria-label="Command"
    placeholder="Host, node, address, plan, package, run, page …"
    oninput={() => {
      at = 0;
    }}
    onkeydown={keys}
  />
  <ul id="found" role="listbox" aria-label="Found">
    {#each found as one, i (i)}<li
        id={`found-${i}`}
        role="option"
        aria-selected={i === at}
        tabindex="-1"
        onclick={() => choose(i)}
        onkeydown={(e) => {
          if (e.key === 'Enter') choose(i);
        }}
      >
        <span class="kind">{one.kind}</span><span>{one.text}</span><span class="quiet mono"
          >{one.detail}</span
        >
      </li>{/each}
  </ul>
  {#if !found.length}<p class="quiet" role="status">Nothing matches “{query}”.</p>{/if}
</Dialog>

<style>
  input {
    width: 100%;
    padding: 8px 12px;
  }
  ul {
    list-style: none;
    margin: 8px 0 0;
    padding: 0;
  }
  li {
    display: grid;
    grid-template-columns: 86px minmax(0, 1fr) auto;
    gap: 10px;
    align-items: baseline;
    padding: 5px 12px;
    cursor: pointer;
  }
  li span {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .kind {
    color: var(--muted);
    font-size: var(--text-s);
  }
  [aria-selected='true'],
  li:hover {
    background: var(--accent-wash);
  }
</style>
