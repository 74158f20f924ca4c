<script lang="ts">
  /** Bare machines and what was last read of them. */
  import type { EstateView } from '../../lib/api/types';
  import { ago, size, utc } from '../../lib/format';
  import Listing from '../../lib/ui/Listing.svelte';

  interface Props {
    machines: EstateView['machines'];
    now: number;
    chosen: string;
    onchoose: (name: string) => void;
    onopen: (kind: 'machine', name: string) => void;
  }
  let { machines, now, chosen, onchoose, onopen }: Props = $props();
</script>

<div class="metal">
  <Listing>
    <thead
      ><tr
        ><th>Machine</th><th>Bay</th><th>Controller</th><th>Model</th><th class="r">Memory</th><th
          class="r">Threads</th
        ><th>Drives</th><th>Power</th><th>Health</th><th>Updated</th></tr
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
          ></tr
        >{/each}</tbody
    >
  </Listing>
</div>

<style>
  .metal {
    margin-top: 14px;
  }
</style>
