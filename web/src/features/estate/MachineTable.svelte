<script lang="ts">
  /** Bare machines and what was last read of them. */
  import type { EstateView } from '../../lib/api/types';
  import { ago, size, utc } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import Later from '../../lib/ui/Later.svelte';
  import Listing from '../../lib/ui/Listing.svelte';
  import { router } from '../../lib/router.svelte';
  import { parts } from './parts';

  interface Props {
    machines: EstateView['machines'];
    now: number;
    chosen: string;
    onchoose: (name: string) => void;
    onopen: (kind: 'machine', name: string) => void;
  }
  let { machines, now, chosen, onchoose, onopen }: Props = $props();
  /** A plan’s finding leads here with the machines that it wants looked into. */
  const asked = router.query.get('inspect')?.split(',') ?? [];
  let inspecting = $state(asked.length > 0);
  function insideText(m: EstateView['machines'][number]): string {
    const at = m.facts.inside?.read_at;
    return at ? ago(now - at) : 'never';
  }
</script>

<div class="metal">
  <Listing>
    <thead
      ><tr
        ><th>Machine</th><th>Bay</th><th>Controller</th><th>Model</th><th class="r">Memory</th><th
          class="r">Threads</th
        ><th>Drives</th><th>Power</th><th>Health</th><th>Updated</th><th>Inspected</th></tr
      ></thead
    >
    <tbody
      >{#each machines as m (m.machine.name)}<tr
          class:chosen={chosen === m.machine.name}
          class:bad={m.facts.trouble}
          ><th scope="row"
            ><button
              onclick={() => onchoose(m.machine.name)}
              ondblclick={() => onopen('machine', m.machine.name)}>{m.machine.name}</button
            ></th
          ><td title={m.machine.site}>{m.machine.bay}</td><td class="mono">{m.machine.address}</td
          ><td>{m.facts.model || '—'}</td><td class="mono r"
            >{m.facts.memory_bytes ? size(m.facts.memory_bytes) : 'not reported'}</td
          ><td class="mono r"
            >{m.facts.processors?.reduce((a, p) => a + (p.threads ?? 0), 0) || '—'}</td
          ><td
            >{m.facts.drives?.length
              ? `${m.facts.drives.length} × ${size(m.facts.drives[0]!.size_bytes ?? 0)}`
              : 'not reported'}</td
          ><td>{m.facts.power || '—'}</td><td>{m.facts.health || 'not reported'}</td><td
            class="quiet"
            title={utc(m.facts.read_at ?? 0)}
            >{m.facts.trouble ? 'unreachable' : ago(now - (m.facts.read_at ?? 0))}</td
          ><td class="quiet" title={m.facts.inside ? utc(m.facts.inside.read_at ?? 0) : ''}
            >{insideText(m)}</td
          ></tr
        >{/each}</tbody
    >
  </Listing>
  <p class="acts">
    <Button
      onclick={() => {
        inspecting = true;
      }}>Inspect …</Button
    ><span class="quiet">Reads interfaces and disks from inside.</span>
  </p>
</div>
{#if inspecting}<Later
    load={parts.inspect}
    {machines}
    {now}
    chosen={asked}
    onclose={() => {
      inspecting = false;
    }}
  />{/if}

<style>
  .metal {
    margin-top: 14px;
  }
  .acts {
    display: flex;
    gap: 10px;
    align-items: baseline;
    margin: 10px 0 14px;
  }
</style>
