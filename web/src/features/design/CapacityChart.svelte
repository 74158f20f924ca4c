<script lang="ts">
  /** What more or fewer nodes of each role would handle, against the workload. */
  import type { SizingView } from '../../lib/api/types';
  import Section from '../ledger/Section.svelte';
  import { curves } from './curve';

  let { answer }: { answer: SizingView } = $props();
  let picked = $state('');
  let load = $derived(picked || (answer.loads[0]?.id ?? ''));
  let drawn = $derived(
    answer.proposals.filter(
      (p) => new Set(p.curve.filter((o) => load in o.carries).map((o) => o.count)).size > 1,
    ),
  );
  let wanted = $derived(answer.loads.find((l) => l.id === load));
</script>

{#if drawn.length && wanted}
  <Section title="Capacity by node count">
    {#if answer.loads.length > 1}<div class="pick">
        {#each answer.loads as l (l.id)}<button
            aria-pressed={l.id === load}
            onclick={() => {
              picked = l.id;
            }}>{l.label}</button
          >{/each}
      </div>{/if}
    {#each drawn as p (p.role)}
      {@const c = curves(p.curve, load, wanted.value, p.chosen, 292, 108)}
      <figure>
        <figcaption>
          <b>{p.label}</b>{#each c.lines as line, i (line.size)}{#if line.beyond !== null}<span
                title="More than the chart shows"
                >{line.size}: {line.beyond.toLocaleString()}{wanted.unit ? ` ${wanted.unit}` : ''} from
                {c.from}</span
              >{:else}<span
                ><svg width="26" height="8" aria-hidden="true"
                  ><path
                    d="M0 4H24"
                    class="line"
                    style:--role={`var(--role-${i % 5})`}
                    stroke-dasharray={['', '5 3', '2 3', '8 2 2 2'][i % 4]}
                  /></svg
                >{line.size}</span
              >{/if}{/each}
        </figcaption>
        <svg
          width="296"
          height="126"
          role="img"
          aria-label={`What nodes of role ${p.label} carry: ${p.words}`}
        >
          <line x1="0" x2="292" y1="108" y2="108" class="axis" />
          {#if c.level !== null}<line
              x1="0"
              x2="292"
              y1={c.level}
              y2={c.level}
              class="level"
            /><text x="292" y={Math.max(10, c.level - 4)} class="end"
              >{wanted.value.toLocaleString()} wanted</text
            >{/if}
          {#each c.lines as line, i (line.size)}<path
              d={line.path}
              class="line"
              style:--role={`var(--role-${i % 5})`}
              stroke-dasharray={['', '5 3', '2 3', '8 2 2 2'][i % 4]}
            />{/each}
          {#if c.dot}<path d={`M${c.dot.x - 4} ${c.dot.y}l4 -4 4 4 -4 4z`} class="dot" />{/if}
          <text x="0" y="122">{c.from} {c.from === 1 ? 'node' : 'nodes'}</text><text
            x="292"
            y="122"
            class="end">{c.to}</text
          >
        </svg>
      </figure>
    {/each}
  </Section>
{/if}

<style>
  .pick {
    display: flex;
    gap: 12px;
    font-size: var(--text-s);
    margin-bottom: 4px;
  }
  .pick button {
    border: 0;
    background: none;
    padding: 2px 0;
    color: var(--soft);
    cursor: pointer;
    border-bottom: 2px solid transparent;
  }
  .pick [aria-pressed='true'] {
    color: var(--ink);
    border-color: var(--ink);
  }
  figure {
    margin: 0 0 6px;
  }
  figcaption {
    font-size: var(--text-s);
    color: var(--soft);
    display: flex;
    flex-wrap: wrap;
    gap: 0 12px;
    align-items: center;
  }
  figcaption b {
    font-weight: 600;
    color: var(--ink);
  }
  figcaption span {
    display: flex;
    gap: 4px;
    align-items: center;
  }
  svg {
    display: block;
    overflow: visible;
  }
  text {
    font: 11px var(--mono);
    fill: var(--muted);
  }
  .end {
    text-anchor: end;
  }
  .axis {
    stroke: var(--strong-line);
  }
  .level {
    stroke: var(--caution);
    stroke-dasharray: 6 4;
  }
  .line {
    fill: none;
    stroke: var(--role);
    stroke-width: 2;
  }
  .dot {
    fill: var(--accent);
    stroke: var(--paper);
    stroke-width: 1.5;
  }
</style>
