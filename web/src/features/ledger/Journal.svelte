<script lang="ts">
  /** The whole journal of a run, newest first, a page at a time. */
  import { get } from '../../lib/api/client';
  import type { EventView, RunView } from '../../lib/api/types';
  import { clock, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import { eventWords, stepName } from './journal';

  interface Props {
    run: RunView;
    onclose: () => void;
  }
  let { run, onclose }: Props = $props();
  const PAGE = 400;
  let events = $state.raw<EventView[]>([]);
  let search = $state('');
  let more = $state(false);
  let shown = $derived(
    events
      .filter((e) =>
        `${stepName(run, e.step)} ${eventWords(e.kind)} ${String(e.payload['message'] ?? '')}`
          .toLowerCase()
          .includes(search.trim().toLowerCase()),
      )
      .toReversed(),
  );

  async function earlier() {
    try {
      const page = await get(`/runs/${run.id}/events/page?before=${events[0]?.id ?? 0}`);
      events = [...page, ...events];
      more = page.length === PAGE;
    } catch (error) {
      notices.problem(error);
    }
  }
  $effect(() => void earlier());
</script>

<Dialog title="Journal" wide {onclose}>
  <input bind:value={search} placeholder="Search" aria-label="Search the journal" />
  <ul>
    {#each shown as e (e.id)}
      <li title={utc(e.at)}>
        <span class="mono quiet">{clock(e.at)}</span>
        <span class:bad={e.kind === 'failed' || e.kind === 'undo-failed'}
          ><b>{stepName(run, e.step)}</b>
          {eventWords(e.kind)}{e.payload['message']
            ? `: ${String(e.payload['message'])}`
            : ''}</span
        >
      </li>
    {:else}<li class="quiet">{search ? `No entry contains “${search}”.` : 'No entries.'}</li>{/each}
  </ul>
  {#if more}<Button onclick={() => void earlier()}>Show earlier entries</Button>{/if}
</Dialog>

<style>
  input {
    width: 100%;
    border: 0;
    border-bottom: 1px solid var(--strong-line);
    background: none;
    padding: 3px 4px;
    border-radius: 0;
  }
  ul {
    list-style: none;
    margin: 8px 0;
    padding: 0;
    max-height: 56vh;
    overflow: auto;
    font-size: var(--text-s);
  }
  li {
    display: grid;
    grid-template-columns: 74px 1fr;
    padding: 2px 0;
    border-bottom: 1px solid var(--line);
  }
  .bad {
    color: var(--blocker);
  }
</style>
