<script lang="ts">
  /** What comes up and what is called, from left to right. */
  import type { KitAbout } from '../../lib/api/types';
  import { middle } from '../../lib/format';
  import { drawing, HIGH, WIDE } from './order';

  let { order }: { order: KitAbout['order'] } = $props();
  let drawn = $derived(drawing(order));
  function where(stage: KitAbout['order'][number]): string {
    if (stage.kind === 'role') return 'nodes come up';
    if (stage.kind === 'stage') return stage.of === 'hold' ? 'checks, then a hold' : 'checks';
    if (stage.asks) return `asks ${middle(stage.asks, 18)}`;
    return stage.of === 'cluster' ? 'once, at the end' : `on each ${middle(stage.of, 14)}`;
  }
</script>

<!-- it scrolls where it is wider than the page: by keys, too -->
<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div class="scroll" tabindex="0" role="group" aria-label="Order of the setup">
  <svg
    width={drawn.width + 2}
    height={drawn.height + 2}
    viewBox={`-1 -1 ${drawn.width + 2} ${drawn.height + 2}`}
    role="img"
    aria-label={`Order: ${order.map((one) => one.label).join(', ')}`}
  >
    {#each drawn.lines as line (line.key)}<path class="line" d={line.path} />{/each}
    {#each drawn.boxes as box (box.stage.id)}<g transform={`translate(${box.x} ${box.y})`}>
        <rect class={box.stage.kind} width={WIDE} height={HIGH} />
        <text x="10" y="17">{middle(box.stage.label, 21)}</text>
        <text class="of" x="10" y="32">{where(box.stage)}</text>
      </g>{/each}
  </svg>
</div>

<style>
  .scroll {
    overflow-x: auto;
    padding: 4px 0;
  }
  .line {
    fill: none;
    stroke: var(--muted);
  }
  rect {
    fill: var(--paper);
    stroke: var(--strong-line);
  }
  rect.stage {
    stroke-dasharray: 5 3;
    stroke: var(--ink);
  }
  rect.role {
    stroke-width: 2;
    stroke: var(--ink);
  }
  text {
    font-size: 13px;
    fill: var(--ink);
  }
  .of {
    font-size: 11px;
    fill: var(--muted);
  }
</style>
