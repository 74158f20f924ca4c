<script lang="ts">
  import { WORDS, type Mark } from './marks';
  /** `label`: other words for those who listen; '' where the words stand beside it. */
  interface Props {
    state: Mark;
    size?: number;
    color?: string;
    label?: string;
  }
  let { state, size = 14, color = 'var(--ink)', label = WORDS[state] }: Props = $props();
  const stone = 'M4.500 1.200H10l2.800 3.400-.600 5L9.300 12.800H3.800L1.200 9.400l.600-5z';
</script>

<svg
  width={size}
  height={size}
  viewBox="0 0 14 14"
  role={label ? 'img' : 'presentation'}
  aria-label={label || undefined}
  style:--c={color}
  data-state={state}
>
  {#if state === 'done' || state === 'proved'}
    <path d={stone} class="solid" />
    {#if state === 'proved'}<path d="M4 7.200l2.200 2.300L10.300 4.500" class="cut" />{/if}
  {:else if state === 'working'}
    <path d="M1.500 7h11l-.300 2.600-2.900 3.200H3.800L1.200 9.400z" class="solid" /><path
      d={stone}
      class="line"
    />
  {:else if state === 'waiting'}
    <path d={stone} class="line dashed" /><circle cx="7" cy="7" r="1.500" class="solid breathe" />
  {:else if state === 'failed'}
    <path d={stone} class="line bad" /><path
      d="M8.500 1L6 5.500l3 1.500-3.500 6"
      class="line bad"
    />
  {:else if state === 'held'}
    <path d={stone} class="solid" /><path d="M0 7h14" class="gap" />
  {:else if state === 'skipped'}
    <path d={stone} class="line" /><path d="M3 10L10 3M5.500 11.500l6-6" class="line" />
  {:else if state === 'undone'}
    <path d={stone} class="line dashed" />
  {:else}
    <path d={stone} class="line" />
  {/if}
</svg>

<style>
  svg {
    flex: none;
    vertical-align: -2px;
  }
  .solid {
    fill: var(--c);
  }
  .line {
    fill: none;
    stroke: var(--c);
    stroke-width: 1.2;
  }
  .dashed {
    stroke-dasharray: 2 1.6;
  }
  .bad {
    stroke: var(--blocker);
    stroke-width: 1.5;
  }
  .cut {
    fill: none;
    stroke: var(--paper);
    stroke-width: 1.8;
  }
  .gap {
    stroke: var(--paper);
    stroke-width: 2.6;
  }
  .breathe {
    animation: breathe 2.8s ease-in-out infinite;
  }
  @keyframes breathe {
    50% {
      opacity: 0.25;
    }
  }
</style>
