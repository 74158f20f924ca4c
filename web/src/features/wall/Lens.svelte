<script lang="ts">
  /** What stands under the pointer, where columns are too narrow to say it themselves. */
  import { count, size } from '../../lib/format';
  import type { Column } from './wall';

  interface Props {
    column: Column;
    foot: string;
    /** Where the pointer is, and how wide the wall is, in pixels. */
    x: number;
    width: number;
  }
  let { column: c, foot, x, width }: Props = $props();
  const MOST = 8;
  let names = $derived(c.stones.map((one) => one.node.name));
</script>

<div class="lens" style:left={`${Math.max(0, Math.min(width - 250, x + 14))}px`} aria-hidden="true">
  <b>{c.host.name}</b> <span class="quiet">{c.host.site} · {c.host.bay}</span>
  <p>
    {c.host.trouble || foot || `${size(c.free)} free of ${size(c.host.limit_bytes)}`} · {count(
      c.bedrock.length,
      'existing VM',
    )}
  </p>
  {#if names.length}<p class="mono">
      {names.slice(0, MOST).join(' ')}{names.length > MOST
        ? ` and ${names.length - MOST} more`
        : ''}
    </p>{/if}
</div>

<style>
  .lens {
    position: absolute;
    top: 22px;
    width: 250px;
    background: var(--surface);
    border: 1px solid var(--ink);
    padding: 7px 11px;
    font-size: var(--text-s);
    pointer-events: none;
    z-index: 5;
  }
</style>
