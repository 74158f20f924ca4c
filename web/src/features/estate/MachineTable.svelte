<script lang="ts">
  /** Bare machines and what was last read of them. */
  import type { EstateView } from '../../lib/api/types';
  import { ago, size, utc } from '../../lib/format';

  interface Props {
    machines: EstateView['machines'];
    now: number;
    chosen: string;
    onchoose: (name: string) => void;
    onopen: (kind: 'machine', name: string) => void;
  }
  let { machines, now, chosen, onchoose, onopen }: Props = $props();
</script>

<table class="metal">
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
        ><td title={m.machine.site}>{m.machine.bay}</td><td class="mono">{m.machine.address}</td><td
          >{m.facts.model || '—'}</td
        ><td class="mono r">{m.facts.memory_bytes ? size(m.facts.memory_bytes) : 'not reported'}</td
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
</table>

<style>
  table {
    border-collapse: separate;
    border-spacing: 0;
    width: 100%;
  }
  thead th {
    position: sticky;
    top: 0;
    background: var(--sunk);
    color: var(--soft);
    font-weight: 400;
    font-size: var(--text-s);
    text-align: left;
    padding: 4px 6px;
    white-space: nowrap;
  }
  td,
  tbody th {
    padding: 4px 6px;
    border-bottom: 1px solid var(--line);
    white-space: nowrap;
    text-align: left;
    font-weight: 400;
  }
  .r {
    text-align: right !important;
  }
  tbody button {
    border: 0;
    background: none;
    padding: 0;
    font-weight: 600;
    cursor: pointer;
  }
  tbody button:hover {
    color: var(--accent);
  }
  .chosen > * {
    background: var(--accent-wash);
  }
  .bad td:last-child {
    color: var(--blocker);
  }
  .metal {
    margin-top: 14px;
  }
</style>
