<script lang="ts">
  import type { Sentence } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';
  interface Props {
    sentence: Sentence;
    busy: boolean;
    doing?: string;
    onact: () => void;
    more?: import('svelte').Snippet;
  }
  let { sentence, busy, doing = '', onact, more }: Props = $props();
</script>

<div class="bar" aria-live="polite">
  <div>
    <h1>{sentence.before}<b>{sentence.strong}</b>{sentence.after}</h1>
    <p class="quiet">{sentence.below || ' '}</p>
  </div>
  <div class="acts">
    {@render more?.()}{#if sentence.action.label}<Button kind="main" disabled={busy} onclick={onact}
        >{busy
          ? doing
            ? `${doing.charAt(0).toUpperCase()}${doing.slice(1)} …`
            : 'Working …'
          : sentence.action.label}</Button
      >{/if}
  </div>
</div>

<style>
  .bar {
    display: flex;
    justify-content: space-between;
    gap: 28px;
    align-items: flex-start;
    padding: 10px 0 6px;
    border-bottom: 1px solid var(--line);
  }
  h1 {
    font-size: var(--text-l);
    line-height: 1.3;
  }
  b {
    font-weight: 600;
  }
  p {
    font-size: var(--text-s);
    margin-top: 1px;
  }
  .acts {
    display: flex;
    gap: 10px;
    align-items: center;
    flex: none;
  }
</style>
