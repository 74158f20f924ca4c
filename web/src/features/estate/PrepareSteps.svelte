<script lang="ts">
  /** The exact commands of each step, and what has to be typed for it. */
  import type { Preview } from '../../lib/api/types';
  import Copy from '../../lib/ui/Copy.svelte';
  import { brief } from '../ledger/transcript';

  interface Props {
    preview: Preview;
    /** What was typed, by what is to be typed. */
    typed: Record<string, string>;
  }
  let { preview, typed = $bindable() }: Props = $props();
</script>

<div class="steps">
  {#each preview.steps as s (s.key)}
    <details open={preview.steps.length <= 2 || s.refusals.length > 0 || s.confirm !== ''}>
      <summary
        ><b>{s.host}</b>
        {s.label}{#if !s.undoable}<span class="warn">cannot be rolled back</span
          >{/if}{#if s.refusals.length}<span class="warn">refused</span>{/if}</summary
      >
      {#if s.confirm}<label class="confirm"
          ><span>Type <b class="mono">{s.confirm}</b> to confirm</span>
          <input
            class="mono"
            bind:value={typed[s.confirm]}
            autocomplete="off"
            aria-label={`Type ${s.confirm}`}
          /></label
        >{/if}
      {#each s.refusals.filter((t) => !t.startsWith('type ')) as text (text)}<p class="alarm">
          {text}
        </p>{/each}
      {#if s.rules?.length}<p class="quiet">
          An administrator of {s.host} can allow it in
          <span class="mono">/etc/sudoers.d/nimble-stone</span>:
        </p>
        <pre class="mono">{s.rules.join('\n')}<Copy
            text={s.rules.join('\n')}
            what="sudo rules"
          /></pre>{/if}
      {#each s.commands as c (c)}<pre class="mono">{c}<Copy text={c} what="command" /></pre>{/each}
      {#if s.undo.length}<p class="quiet">
          Rolled back by: <span class="mono">{s.undo.map((u) => brief(u)).join(' · ')}</span>
        </p>{/if}
    </details>{/each}
</div>

<style>
  .steps {
    max-height: 30vh;
    overflow: auto;
    border-block: 1px solid var(--strong-line);
    margin-top: 10px;
  }
  details {
    border-top: 1px solid var(--line);
    padding: 5px 0;
  }
  details:first-child {
    border: 0;
  }
  summary {
    cursor: pointer;
  }
  .warn {
    color: var(--blocker);
    font-size: var(--text-s);
    margin-left: 10px;
  }
  pre {
    margin: 4px 0 0 14px;
    font-size: 11px;
    white-space: pre-wrap;
    overflow-wrap: anywhere;
    color: var(--soft);
    background: var(--sunk);
    padding: 4px 8px;
  }
  .quiet {
    margin: 4px 0 0 14px;
    font-size: 12px;
    overflow-wrap: anywhere;
  }
  .confirm {
    display: grid;
    grid-template-columns: auto 1fr;
    gap: 10px;
    align-items: center;
    margin: 6px 0 2px 14px;
    font-size: var(--text-s);
  }
  .alarm {
    color: var(--blocker);
    font-size: var(--text-s);
    margin: 4px 0 0 14px;
  }
  input {
    width: 100%;
  }
</style>
