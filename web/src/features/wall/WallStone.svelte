<script lang="ts">
  /** A node on the wall: a stone with cut corners, and how it stands. */
  import { middle, size } from '../../lib/format';
  import { WORDS, type Mark } from '../../lib/ui/marks';
  import { nodeOf, type Stone } from './wall';

  export interface StoneState {
    mark: Mark;
    share: number;
    text?: string;
  }
  interface Props {
    stone: Stone;
    host: string;
    state: StoneState;
    /** Whether a run is shown: then its state is said. */
    told: boolean;
    dense: boolean;
    figure: string;
    selected: boolean;
    trouble: boolean;
    lifted: boolean;
    ondown: (event: PointerEvent) => void;
  }
  let {
    stone: s,
    host,
    state: st,
    told,
    dense,
    figure,
    selected,
    trouble,
    lifted,
    ondown,
  }: Props = $props();
  let also = $derived(s.node.also ?? []);
  let clip = $derived(`clip-${s.id.replace(' ', '-')}`);
  const chars = (w: number) => Math.max(2, Math.floor((w - 44) / 6.6));
  let crack = $derived(
    `M${s.x + s.w * 0.62} ${s.y - 1}l${-s.w * 0.05} ${s.h * 0.4}l${s.w * 0.07} ${s.h * 0.14}l${-s.w * 0.06} ${s.h * 0.52}`,
  );
</script>

<!-- svelte-ignore a11y_no_static_element_interactions -->
<g
  class="stone"
  data-state={st.mark}
  data-node={nodeOf(s.node)}
  class:selected
  class:trouble
  class:lifted
  style:--role={`var(--role-${s.node.role_index % 5})`}
  onpointerdown={ondown}
>
  <title
    >{s.node.name} · {s.node.role_label} · {size(s.memory)} on {host}{told
      ? ` · ${WORDS[st.mark]}`
      : ''}</title
  >
  <clipPath id={clip}><path d={s.path} /></clipPath>
  <path d={s.path} class="body" />
  <g clip-path={`url(#${clip})`}>
    {#if st.share > 0}<rect
        x={s.x}
        y={s.y + s.h * (1 - st.share)}
        width={s.w}
        height={s.h * st.share}
        class="fill"
      />{/if}
    {#if !dense}<rect
        x={s.x}
        y={s.y}
        width="6"
        height={s.h}
        class="edge"
      />{#each also as at, i (at)}<rect
          x={s.x + 8 + 8 * i}
          y={s.y}
          width="6"
          height={s.h}
          class="further"
          style:--further={`var(--role-${at % 5})`}
        />{/each}{/if}
    {#if st.mark === 'skipped'}<rect
        x={s.x}
        y={s.y}
        width={s.w}
        height={s.h}
        fill="url(#skip)"
      />{/if}
    {#if st.mark === 'held'}<rect
        x={s.x - 2}
        y={s.y + s.h / 2 - 1.5}
        width={s.w + 4}
        height="3"
        class="cutout"
      />{/if}
  </g>
  <path d={s.path} class="outline" />
  {#if st.mark === 'failed'}<path d={crack} class="crack" />{/if}
  {#if !dense && s.h >= 13}
    <text x={s.x + 13 + 8 * also.length} y={s.y + s.h / 2 + 4.5} class="label"
      >{middle(s.label, chars(s.w - 8 * also.length))}</text
    >
    {#if st.mark === 'proved'}<path
        d={`M${s.x + s.w - 19} ${s.y + s.h / 2}l4 4.500 7-9`}
        class="proof"
      />
    {:else if s.w > 90}<text x={s.x + s.w - 7} y={s.y + s.h / 2 + 4.5} class="label figure"
        >{figure}</text
      >{/if}
  {/if}
</g>

<style>
  text {
    font: 12px var(--sans);
    fill: var(--ink);
    pointer-events: none;
  }
  .stone {
    cursor: pointer;
  }
  .body {
    fill: var(--surface);
  }
  .fill {
    fill: var(--role);
    opacity: 0.55;
    transition:
      y 0.4s ease,
      height 0.4s ease;
  }
  .edge {
    fill: var(--role);
  }
  .further {
    fill: var(--further);
    stroke: var(--surface);
    stroke-width: 1;
  }
  .outline {
    fill: none;
    stroke: var(--role);
    stroke-width: 1.5;
  }
  .label {
    font-size: 12.5px;
    font-weight: 600;
  }
  .figure {
    font: 11px var(--mono);
    text-anchor: end;
    fill: var(--soft);
    font-weight: 400;
  }
  [data-state='done'] .body,
  [data-state='proved'] .body {
    fill: var(--role);
  }
  [data-state='done'] .fill,
  [data-state='proved'] .fill {
    opacity: 1;
  }
  [data-state='done'] text,
  [data-state='proved'] text {
    fill: var(--on-role);
  }
  [data-state='waiting'] .outline {
    stroke-dasharray: 4 3;
    animation: breathe 2.8s ease-in-out infinite;
  }
  [data-state='undone'] .outline {
    stroke-dasharray: 2 4;
  }
  [data-state='failed'] .outline {
    stroke: var(--blocker);
    stroke-width: 2;
  }
  .crack {
    fill: none;
    stroke: var(--blocker);
    stroke-width: 2.2;
  }
  .proof {
    fill: none;
    stroke: var(--on-role);
    stroke-width: 2;
  }
  .cutout {
    fill: var(--paper);
  }
  .trouble .outline {
    stroke: var(--blocker);
    stroke-width: 2;
  }
  .selected .outline {
    stroke: var(--accent);
    stroke-width: 2.6;
  }
  .trouble .outline {
    stroke: var(--blocker);
    stroke-width: 2;
  }
  .selected .outline {
    stroke: var(--accent);
    stroke-width: 2.6;
  }
  .lifted {
    opacity: 0.45;
  }
  @keyframes breathe {
    50% {
      stroke-opacity: 0.25;
    }
  }
</style>
