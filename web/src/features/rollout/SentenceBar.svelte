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
  let working = $derived(doing ? doing.charAt(0).toUpperCase() + doing.slice(1) : 'Working');
</script>

<div class="bar" aria-live="polite">
  <div>
    <h1 title={`${sentence.before}${sentence.strong}${sentence.after}`}>
      {sentence.before}<b>{sentence.strong}</b>{sentence.after}
    </h1>
    <p class="quiet">{sentence.below || ' '}</p>
  </div>
  <div class="acts">
    {@render more?.()}{#if sentence.action.label}<Button kind="main" disabled={busy} onclick={onact}
        >{busy ? `${working} …` : sentence.action.label}</Button
      >{/if}
  </div>
</div>

<style>
  .bar {
    display: flex;
    justify-content: space-between;
    gap: 28px;
    align-items: flex-start;
    padding: 8px 0 4px;
    border-bottom: 1px solid var(--line);
    /* two lines and the one below: whatever the sentence says, the page below it stays where it is */
    height: 76px;
    flex: none;
  }
  h1 {
    font-size: var(--text-l);
    line-height: 1.25;
    display: -webkit-box;
    -webkit-box-orient: vertical;
    -webkit-line-clamp: 2;
    line-clamp: 2;
    overflow: hidden;
  }
  p {
    font-size: var(--text-s);
    margin-top: 1px;
  }
  .bar > div:first-child {
    display: flex;
    flex-direction: column;
    justify-content: center;
    height: 100%;
    min-width: 0;
  }
  p {
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  .acts {
    display: flex;
    gap: 10px;
    align-items: center;
    flex: none;
    padding-top: 14px;
  }
  @media (max-width: 900px) {
    .bar {
      height: auto;
      min-height: 76px;
      flex-wrap: wrap;
      gap: 4px 20px;
    }
    .bar > div:first-child {
      height: auto;
      flex-basis: 100%;
    }
    p {
      white-space: normal;
    }
    .acts {
      padding: 0 0 6px;
    }
  }
  @media print {
    .acts {
      display: none;
    }
  }
</style>
