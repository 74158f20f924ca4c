<script lang="ts">
  interface Props {
    severity: 'blocker' | 'caution' | 'note';
  }
  let { severity }: Props = $props();
</script>

<svg
  width="13"
  height="13"
  viewBox="0 0 13 13"
  role="img"
  aria-label={severity}
  data-severity={severity}
>
  {#if severity === 'blocker'}<path d="M1 1h11v11H1z" class="solid" />
  {:else if severity === 'caution'}<path d="M1 1h11v11H1z" class="line" /><path
      d="M1 1h5.500v11H1z"
      class="solid"
    />
  {:else}<path d="M1.500 6.500h10" class="line thick" />{/if}
</svg>

<style>
  svg {
    flex: none;
  }
  [data-severity='blocker'] {
    --c: var(--blocker);
  }
  [data-severity='caution'] {
    --c: var(--caution);
  }
  [data-severity='note'] {
    --c: var(--note);
  }
  .solid {
    fill: var(--c);
  }
  .line {
    fill: none;
    stroke: var(--c);
    stroke-width: 1.4;
  }
  .thick {
    stroke-width: 3;
  }
</style>
