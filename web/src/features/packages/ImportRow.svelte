<script lang="ts">
  import type { TakeInView } from '../../lib/api/types';
  import { count, middle, moment, size, span, utc } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import Weight from '../../lib/ui/Weight.svelte';

  interface Props {
    row: TakeInView;
    mine: boolean;
    onstop: () => void;
    onresume: () => void;
  }
  let { row, mine, onstop, onresume }: Props = $props();
  let waiting = $derived(row.source === 'upload' && row.state === 'receiving' && !mine);
  let left = $derived(row.rate > 0 && row.total ? (row.total - row.done) / row.rate : 0);
  let open = $state(false);
  const HOW: Record<string, string> = {
    upload: 'sent from a browser or terminal',
    url: 'fetched',
    folder: 'found in the watched folder',
  };
</script>

<div class="row" data-state={row.state} role="status">
  <div class="what">
    <b title={row.name}>{middle(row.name, 46)}</b><span class="quiet"
      >{HOW[row.source]}{row.origin ? ` · ${middle(row.origin, 60)}` : ''}{row.files.length > 1
        ? ` · ${count(row.files.length, 'file')}`
        : ''}</span
    >
  </div>
  {#if row.state === 'failed'}
    <div class="why">
      <p class="alarm">{row.message}</p>
      <p class="quiet">
        {row.hint} <span title={utc(row.changed_at)}>{moment(row.changed_at)}.</span>
        {#if row.findings.length > 1}<button
            class="more"
            onclick={() => {
              open = !open;
            }}
            aria-expanded={open}>{open ? 'less' : `all ${row.findings.length} findings`}</button
          >{/if}
      </p>
      {#if open}<ul>
          {#each row.findings as f, i (i)}<li>
              <Weight severity={f.severity as 'note'} /><span
                >{f.message}<span class="quiet"> {f.where} {f.clause}</span></span
              >
            </li>{/each}
        </ul>{/if}
    </div>
    <Button onclick={onstop}>Dismiss</Button>
  {:else if waiting}
    <div class="bar">
      <progress value={row.done} max={row.total} aria-label={`Received of ${row.name}`}
      ></progress><span class="mono"
        >{size(row.done)} of {size(row.total)} · waiting for the sender</span
      >
    </div>
    <Button onclick={onresume}>Select file to resume</Button><Button onclick={onstop}>Stop</Button>
  {:else}
    <div class="bar">
      <progress
        value={row.total ? row.done : undefined}
        max={row.total || 1}
        aria-label={`${row.state === 'verifying' ? 'Verifying' : 'Receiving'} ${row.name}`}
      ></progress>
      <span class="mono"
        >{row.state === 'verifying' ? 'verifying · ' : ''}{size(row.done)}{row.total
          ? ` of ${size(row.total)}`
          : ''}{row.rate > 0 ? ` · ${size(row.rate)}/s` : ''}{left > 0
          ? ` · ${span(left)} left`
          : ''}</span
      >
    </div>
    <Button onclick={onstop}>Stop</Button>
  {/if}
</div>

<style>
  .row {
    display: flex;
    gap: 18px;
    align-items: flex-start;
    padding: 9px 0;
    border-bottom: 1px solid var(--line);
  }
  .what {
    width: 330px;
    flex: none;
  }
  .what b {
    font-weight: 600;
    display: block;
  }
  .what span {
    font-size: var(--text-xs);
    display: block;
    overflow-wrap: anywhere;
  }
  .bar {
    flex: 1;
    display: grid;
    gap: 2px;
  }
  progress {
    width: 100%;
    height: 12px;
    accent-color: var(--accent);
  }
  .mono {
    font-size: var(--text-xs);
  }
  .why {
    flex: 1;
    font-size: var(--text-s);
  }
  .alarm {
    color: var(--blocker);
    font-weight: 600;
  }
  .more {
    border: 0;
    background: none;
    padding: 0;
    color: var(--accent);
    text-decoration: underline;
    text-underline-offset: 3px;
    cursor: pointer;
  }
  ul {
    list-style: none;
    margin: 6px 0 0;
    padding: 0;
    display: grid;
    gap: 3px;
  }
  li {
    display: flex;
    gap: 8px;
  }
</style>
