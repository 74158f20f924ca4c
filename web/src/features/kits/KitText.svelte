<script lang="ts">
  /** The text of a kit, checked while it is typed. What is typed stays until it is kept. */
  import { untrack } from 'svelte';
  import { ApiError, send } from '../../lib/api/client';
  import type { KitAbout, KitFault, KitPage } from '../../lib/api/types';
  import { keepDraft, readDraft } from '../../lib/draft';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import { offsetOf, placeOf } from './order';

  interface Props {
    ident: string;
    text: string;
    own: boolean;
    onabout: (about: KitAbout) => void;
    onkept: (page: KitPage) => void;
  }
  let { ident, text, own, onabout, onkept }: Props = $props();
  // svelte-ignore state_referenced_locally
  const name = `kit ${ident}`;
  // svelte-ignore state_referenced_locally
  let typed = $state(readDraft(name) || text);
  let faults = $state.raw<KitFault[]>([]);
  let busy = $state(false),
    seen = $state('');
  // which check is the latest; nothing on the page depends on it
  let checked = 0;
  let area: HTMLTextAreaElement | undefined = $state();
  let changed = $derived(typed !== text);
  let words = $derived.by(() => {
    if (changed && seen !== typed) return 'Checking …';
    if (faults.length) return faults.length === 1 ? '1 fault' : `${faults.length} faults`;
    if (changed) return 'No faults. Not saved yet.';
    return own
      ? 'Own kit of this server.'
      : 'Shipped kit. Saving makes an own kit of this server that replaces it.';
  });
  let timer: ReturnType<typeof setTimeout> | undefined;
  async function check() {
    const mine = (checked += 1),
      text = typed;
    try {
      const found = await send('POST', '/kits/check', { text });
      if (mine !== checked) return;
      faults = found.faults;
      seen = text;
      if (found.about) onabout(found.about);
    } catch (e) {
      notices.problem(e);
    }
  }
  function input() {
    keepDraft(name, typed === text ? '' : typed);
    clearTimeout(timer);
    timer = setTimeout(() => void check(), 300);
  }
  $effect(() => {
    // a draft of an earlier visit is checked once
    untrack(() => {
      if (changed) void check();
    });
    return () => clearTimeout(timer);
  });
  async function keep() {
    busy = true;
    try {
      const page = await send('PUT', '/kits', { text: typed });
      keepDraft(name, '');
      onkept(page);
    } catch (e) {
      if (e instanceof ApiError) await check();
      notices.problem(e);
    } finally {
      busy = false;
    }
  }
  function go(fault: KitFault) {
    if (!area) return;
    const at = offsetOf(typed, placeOf(fault.place));
    area.focus();
    area.setSelectionRange(at, at);
    area.scrollTop = (placeOf(fault.place).line - 4) * 18;
  }
</script>

<div class="acts">
  <Button
    kind="main"
    disabled={busy || !changed || seen !== typed || faults.length > 0}
    onclick={() => void keep()}>{own ? 'Save kit' : 'Save as own kit'}</Button
  >
  {#if changed}<Button
      onclick={() => {
        typed = text;
        faults = [];
        input();
      }}>Discard changes</Button
    >{/if}
  <span class="state" role="status">{words}</span>
</div>
{#if faults.length}<ul class="faults">
    {#each faults.slice(0, 12) as fault, n (n)}<li>
        <button onclick={() => go(fault)}
          ><span class="mono">{fault.place || 'text'}</span> {fault.message}</button
        >
      </li>{/each}
  </ul>{/if}
<textarea
  bind:this={area}
  bind:value={typed}
  oninput={input}
  spellcheck="false"
  aria-label="Text of the kit"
  aria-invalid={faults.length > 0 ? 'true' : undefined}></textarea>

<style>
  .acts {
    display: flex;
    gap: 10px;
    align-items: center;
    padding: 8px 0;
  }
  .state {
    font-size: var(--text-s);
    color: var(--muted);
  }
  .faults {
    list-style: none;
    margin: 0 0 8px;
    padding: 6px 12px;
    border-left: 3px solid var(--blocker);
  }
  .faults button {
    border: 0;
    background: none;
    padding: 2px 0;
    text-align: left;
    cursor: pointer;
    color: var(--ink);
  }
  .faults button:hover {
    color: var(--accent);
  }
  .faults .mono {
    color: var(--blocker);
    margin-right: 10px;
  }
  textarea {
    width: 100%;
    min-height: 420px;
    height: calc(100vh - 300px);
    font: 13px/18px var(--mono);
    white-space: pre;
    overflow: auto;
    tab-size: 2;
    resize: vertical;
  }
</style>
