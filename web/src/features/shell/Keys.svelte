<script lang="ts">
  /** Shortcuts, and where the guide is. */
  import { prefs } from '../../lib/prefs.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';

  let { onclose }: { onclose: () => void } = $props();
  const KEYS: [string, string][] = [
    ['Ctrl K', 'find anything, go anywhere'],
    ['arrows, Tab', 'move in the sheet'],
    ['type, Enter, F2', 'replace or edit a cell'],
    ['Shift arrows', 'select several cells'],
    ['Ctrl D', 'fill down; addresses and numbers count up'],
    ['Ctrl Enter', 'the typed value into every selected cell'],
    ['Ctrl C, Ctrl V', 'copy and paste, also from a spreadsheet'],
    ['Delete', 'reset a cell to its default'],
    ['Ctrl Z, Ctrl Y', 'undo, redo'],
  ];
  const LETTERS: [string, string][] = [
    ['/', 'filter; inside a cell it is typed'],
    ['H, G, R', 'in a run: hold, resume, retry'],
    ['?', 'this list'],
  ];
</script>

<Dialog title="Keys" {onclose}>
  <dl>
    {#each KEYS as [k, t] (k)}<dt class="mono">{k}</dt>
      <dd>{t}</dd>{/each}
  </dl>
  <label
    ><input type="checkbox" bind:checked={prefs.letters} /> Single characters work as shortcuts</label
  >
  <dl class:off={!prefs.letters}>
    {#each LETTERS as [k, t] (k)}<dt class="mono">{k}</dt>
      <dd>{t}</dd>{/each}
  </dl>
  <p>
    <a href="/help/guide" onclick={onclose}>Guide</a> ·
    <a href="/help/glossary" onclick={onclose}>Glossary</a>
  </p>
</Dialog>

<style>
  dl {
    --label: 150px;
    gap: 6px 14px;
    font-size: var(--text-m);
  }
  .off {
    color: var(--muted);
    text-decoration: line-through;
  }
  label {
    display: block;
    margin: 14px 0 8px;
  }
  p {
    margin-top: 14px;
  }
</style>
