<script lang="ts">
  /** Commands and answers of a step: all of them, repeated polls folded, searchable, downloadable. */
  import { get } from '../../lib/api/client';
  import type { Entry } from '../../lib/api/types';
  import { clock, count, span, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { brief, firstLines, matches } from './transcript';
  import Copy from '../../lib/ui/Copy.svelte';

  interface Props {
    run: string;
    step: string;
    host: string;
    failed: boolean;
    /** Changes whenever there may be more to read. */
    stamp: string;
  }
  let { run, step, host, failed, stamp }: Props = $props();
  let entries = $state.raw<Entry[]>([]);
  let search = $state('');
  let open = $state<number | null>(null);
  let following = $state(true);
  let box: HTMLDivElement | undefined = $state();
  let shownFor = '';
  let shown = $derived(entries.filter((entry) => matches(entry, search)));

  $effect(() => {
    void stamp;
    if (step !== shownFor) {
      entries = [];
      open = null;
      following = true;
      shownFor = step;
    }
    const stop = new AbortController();
    void read(step, stop.signal).catch((e: unknown) => notices.problem(e));
    return () => stop.abort();
  });

  /** Every page of the step, from its first entry on. */
  async function read(key: string, signal: AbortSignal) {
    const PAGE = 500;
    let found: Entry[] = [];
    for (;;) {
      const after = found.at(-1)?.id ?? 0;
      const query = new URLSearchParams({ step: key, after: String(after) }).toString();
      const page = await get(`/runs/${run}/transcript?${query}`, signal);
      found = [...found, ...page];
      if (page.length < PAGE) break;
    }
    entries = found;
    queueMicrotask(() => {
      if (following) box?.scrollTo(0, box.scrollHeight);
    });
  }
  function scrolled() {
    if (box) following = box.scrollTop + box.clientHeight >= box.scrollHeight - 24;
  }
</script>

<div class="tools">
  <input bind:value={search} placeholder="Search" aria-label="Search the transcript" />
  <span class="quiet"
    >{search ? `${shown.length} of ` : ''}{count(entries.length, 'entry', 'entries')}</span
  >
  <a href={`/api/runs/${run}/transcript.txt?step=${encodeURIComponent(step)}`} download>Download</a>
</div>
<div class="transcript mono" role="log" aria-label="Transcript" bind:this={box} onscroll={scrolled}>
  {#each shown as e (e.id)}
    <button
      class="command"
      aria-expanded={open === e.id}
      onclick={() => {
        open = open === e.id ? null : e.id;
      }}
      title={`${e.target}, ${utc(e.at)} · ${span(e.seconds)}`}
      ><i>{e.target === host ? '$' : '›'}</i>{open === e.id
        ? e.command
        : brief(e.command)}{#if e.times > 1}<span class="times"
          >asked {e.times} times, last {clock(e.last_at)}</span
        >{/if}</button
    >
    {#if open === e.id}<Copy text={e.command} what="command" />{/if}
    {#if e.answer}<pre class:bad={e.status !== 0 && failed} class:whole={open === e.id}>{open ===
        e.id
          ? e.answer
          : firstLines(e.answer)}</pre>{/if}
  {:else}<p class="quiet">
      {search ? `No entry contains “${search}”.` : 'No commands sent yet.'}
    </p>{/each}
</div>
{#if !following}<button
    class="follow"
    onclick={() => {
      following = true;
      box?.scrollTo(0, box.scrollHeight);
    }}>Follow again</button
  >{/if}

<style>
  .tools {
    display: flex;
    gap: 10px;
    align-items: baseline;
    font-size: var(--text-s);
    margin-bottom: 3px;
  }
  .tools input {
    flex: 1;
    min-width: 60px;
    border: 0;
    border-bottom: 1px solid var(--line);
    background: none;
    padding: 1px 2px;
    border-radius: 0;
  }
  .transcript {
    font-size: 11.5px;
    max-height: 236px;
    overflow: auto;
  }
  .command {
    display: block;
    width: 100%;
    border: 0;
    background: none;
    text-align: left;
    padding: 3px 0 1px 15px;
    cursor: pointer;
    font: inherit;
    position: relative;
    overflow-wrap: anywhere;
    white-space: pre-wrap;
  }
  .command i {
    position: absolute;
    left: 0;
    color: var(--accent);
    font-style: normal;
  }
  .times {
    display: block;
    color: var(--muted);
  }
  pre {
    margin: 0;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    color: var(--muted);
    padding-left: 15px;
    font: inherit;
  }
  pre.bad {
    color: var(--blocker);
  }
  .follow {
    border: 0;
    background: none;
    color: var(--accent);
    font-size: var(--text-s);
    padding: 2px 0;
    cursor: pointer;
  }
</style>
