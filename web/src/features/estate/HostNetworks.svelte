<script lang="ts">
  /** From a host's interfaces over bonds, VLANs and bridges to its networks. */
  import type { OneHost } from '../../lib/api/types';
  import { middle } from '../../lib/format';
  import { wiring, WIDE } from './wires';

  let { one }: { one: OneHost } = $props();
  let width = $state(800);
  let f = $derived(one.facts);
  let net = $derived(wiring(f, Math.max(420, width)));
</script>

<section bind:clientWidth={width}>
  <h2>Interfaces to networks</h2>
  {#if net.spots.length}<svg
      width={net.width}
      height={net.height}
      role="img"
      aria-label="Interfaces, bridges and networks"
      >{#each net.layers as l (l.x)}<text class="layer" x={l.x} y="11">{l.name}</text>{/each}
      {#each net.wires as w, i (i)}<path
          class="wire"
          class:bad={w.bad}
          d={`M${w.from.x + WIDE} ${w.from.y + 13}C${(w.from.x + WIDE + w.to.x) / 2} ${w.from.y + 13} ${(w.from.x + WIDE + w.to.x) / 2} ${w.to.y + 13} ${w.to.x} ${w.to.y + 13}`}
        />{/each}
      {#each net.spots as s (s.id)}<g class={s.kind} class:down={!s.link}
          ><title>{`${s.label} ${s.note}`}</title><rect
            x={s.x}
            y={s.y}
            width={WIDE}
            height="27"
          /><text x={s.x + 7} y={s.y + (s.note ? 11.5 : 17)}>{middle(s.label, 17)}</text
          >{#if s.note}<text class="note" x={s.x + 7} y={s.y + 22.5}>{middle(s.note, 19)}</text
            >{/if}</g
        >{/each}</svg
    >
  {:else}<p class="quiet">Interfaces not reported.</p>{/if}
  {#each f.paths?.filter((p) => !p.passes) ?? [] as p (`${p.network} ${p.peer}`)}<p class="alarm">
      Packets of {p.mtu} bytes do not reach {p.peer}{p.network ? ` over ${p.network}` : ''}: {p.words}
    </p>{/each}
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
  svg text {
    font-size: 12px;
    fill: var(--ink);
  }
  svg .layer {
    font-size: 11px;
    fill: var(--muted);
  }
  svg .note {
    font: 10px var(--mono);
    fill: var(--muted);
  }
  g rect {
    fill: var(--surface);
    stroke: var(--strong-line);
  }
  .network rect {
    fill: var(--sunk);
  }
  .bridge rect {
    stroke-width: 1.8;
  }
  .vlan rect {
    stroke-dasharray: 4 2;
  }
  .down rect {
    stroke: var(--blocker);
    stroke-dasharray: 2 3;
    fill: none;
  }
  .wire {
    fill: none;
    stroke: var(--soft);
    stroke-width: 1.5;
  }
  .wire.bad {
    stroke: var(--blocker);
    stroke-dasharray: 3 3;
  }
  .alarm {
    color: var(--blocker);
    font-size: var(--text-s);
    margin: 4px 0;
  }
</style>
