<script lang="ts">
  /** Earlier texts of a kit, what is otherwise now, and one of them in the editor again. */
  import { get } from '../../lib/api/client';
  import type { KitVersions, KitVersionText } from '../../lib/api/types';
  import { keepDraft } from '../../lib/draft';
  import { ago, count, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';

  interface Props {
    ident: string;
    /** A version was put into the editor. */
    onedit: () => void;
  }
  let { ident, onedit }: Props = $props();
  let view = $state.raw<KitVersions | null>(null);
  let chosen = $state.raw<KitVersionText | null>(null);
  $effect(() => {
    get(`/kits/${ident}/versions`)
      .then((found) => {
        view = found;
      })
      .catch((e: unknown) => notices.problem(e));
  });
  function choose(number: number) {
    get(`/kits/${ident}/versions/${String(number)}`)
      .then((found) => {
        chosen = found;
      })
      .catch((e: unknown) => notices.problem(e));
  }
  function edit(one: KitVersionText) {
    keepDraft(`kit ${ident}`, one.text);
    onedit();
  }
  const lines = (added: number, removed: number) =>
    [added ? `+${added}` : '', removed ? `−${removed}` : ''].filter(Boolean).join(' ') || '–';
  const kindOf = (line: string) => {
    if (line.startsWith('@@')) return 'place';
    if (line.startsWith('+')) return 'more';
    return line.startsWith('-') ? 'less' : '';
  };
</script>

{#if view && !view.versions.length}
  <p class="quiet">
    No versions yet. Each text that is saved, or that this page finds in the kit's file, is kept
    here.
  </p>
{:else if view}
  <div class="two">
    <table>
      <thead
        ><tr><th scope="col">Version</th><th scope="col">Seen</th><th scope="col">Lines</th></tr
        ></thead
      >
      <tbody
        >{#each view.versions as one (one.number)}<tr class:chosen={chosen?.number === one.number}
            ><td
              ><Button kind="link" onclick={() => choose(one.number)}>{one.number}</Button
              >{one.current ? ' now' : ''}</td
            ><td title={utc(one.at)}>{ago(view.now - one.at)}</td><td class="mono"
              >{one.number > 1 ? lines(one.added, one.removed) : 'first'}</td
            ></tr
          >{/each}</tbody
      >
    </table>
    <section aria-label="Difference" aria-live="polite">
      {#if chosen}
        <p class="head">
          <b>Version {chosen.number}</b>
          <span class="quiet"
            >{chosen.difference.length
              ? `what changed since: ${count(chosen.difference.filter((l) => l.startsWith('+')).length, 'line')} added, ${chosen.difference.filter((l) => l.startsWith('-')).length} removed`
              : 'the kit has this text now'}</span
          >
          {#if chosen.difference.length}<Button onclick={() => chosen && edit(chosen)}
              >Put into editor</Button
            >{/if}
        </p>
        <pre>{#each chosen.difference as line, n (n)}<span class={kindOf(line)}
              >{line}
</span>{/each}</pre>
      {:else}<p class="quiet">Choose a version to see what changed since.</p>{/if}
    </section>
  </div>
{/if}

<style>
  .two {
    display: grid;
    grid-template-columns: minmax(220px, 300px) minmax(0, 1fr);
    gap: 24px;
    align-items: start;
    padding-top: 10px;
  }
  table {
    border-collapse: collapse;
    width: 100%;
  }
  th {
    text-align: left;
    font-weight: 400;
    color: var(--muted);
  }
  th,
  td {
    padding: 4px 8px 4px 0;
    border-bottom: 1px solid var(--line);
  }
  .chosen {
    background: var(--accent-wash);
  }
  .head {
    display: flex;
    gap: 12px;
    align-items: center;
    margin-bottom: 8px;
  }
  pre {
    font: 12.5px/18px var(--mono);
    overflow: auto;
    max-height: calc(100vh - 260px);
    border: 1px solid var(--line);
    background: var(--surface);
    padding: 8px 12px;
    margin: 0;
  }
  pre span {
    display: block;
    white-space: pre;
  }
  .more {
    background: var(--accent-wash);
  }
  .less {
    background: var(--blocker-wash);
  }
  .place {
    color: var(--muted);
    margin-top: 6px;
  }
  @media (max-width: 720px) {
    .two {
      grid-template-columns: 1fr;
    }
  }
</style>
