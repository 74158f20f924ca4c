<script lang="ts">
  import { send } from '../../lib/api/client';
  import type { Edit, LandedView, PlanView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';

  interface Props {
    plan: PlanView;
    onedit: (edits: Edit[]) => Promise<boolean>;
    onclose: () => void;
  }
  let { plan, onedit, onclose }: Props = $props();
  let text = $state(''),
    landed = $state.raw<LandedView | null>(null),
    name = $state(''),
    file = $state('');
  let input: HTMLInputElement | undefined = $state();
  async function look() {
    try {
      landed = await send('POST', `/plans/${plan.id}/sheet`, file ? { file } : { text });
    } catch (error) {
      landed = null;
      notices.problem(error);
    }
  }
  async function take(files: FileList | null) {
    const one = files?.[0];
    if (!one) return;
    name = one.name;
    file = await new Promise<string>((resolve, reject) => {
      const reader = new FileReader();
      reader.onload = () => resolve(String(reader.result).split(',')[1] ?? '');
      reader.onerror = () => reject(new Error('not readable'));
      reader.readAsDataURL(one);
    });
    text = '';
    await look();
  }
  async function land() {
    if (landed && (await onedit(landed.edits))) {
      if (landed.wrong.length) landed = { ...landed, edits: [] };
      else onclose();
    }
  }
</script>

<Dialog title="Import and export" {onclose} wide>
  <p>
    Export: <a href={`/api/plans/${plan.id}/sheet.xlsx`} download>{plan.id}.xlsx</a> ·
    <a href={`/api/plans/${plan.id}/sheet.csv`} download>{plan.id}.csv</a>
    · <a href={`/api/plans/${plan.id}/file`} download>plan file</a>. Secrets are not exported.
  </p>
  <p>
    Import: <Button onclick={() => input?.click()}>Choose an XLSX or CSV file</Button>
    <span class="quiet">{name}</span> or paste a table with a header row; one column must be “node”:
  </p>
  <input
    bind:this={input}
    type="file"
    accept=".csv,.xlsx,.tsv,text/csv"
    hidden
    onchange={(e) => void take(e.currentTarget.files)}
    aria-label="Table file"
  />
  <textarea
    bind:value={text}
    rows="6"
    aria-label="Table"
    placeholder={'node\tAddress\tSize\nlead-1\t10.44.20.30\tmedium'}
    oninput={() => {
      file = '';
      name = '';
      landed = null;
    }}></textarea>
  {#if landed}
    <p>
      <b>{count(landed.edits.length, 'cell')} would change</b>, {landed.same} unchanged{landed.wrong
        .length
        ? `, ${landed.wrong.length} cannot be applied`
        : ''}.
    </p>
    {#if landed.wrong.length}
      <div class="wrong">
        <table>
          <thead><tr><th>Row</th><th>Column</th><th>As typed</th><th>Why not</th></tr></thead><tbody
            >{#each landed.wrong.slice(0, 200) as w, i (i)}<tr
                ><td class="mono">{w.row}</td><td
                  >{plan.columns.find((c) => c.id === w.column)?.label ?? w.column}</td
                ><td class="mono">{w.text || '(empty)'}</td><td>{w.why}</td></tr
              >{/each}</tbody
          >
        </table>
      </div>
      {#if landed.wrong.length > 200}<p class="quiet">and {landed.wrong.length - 200} more</p>{/if}
    {/if}
  {/if}
  <div class="acts">
    {#if landed?.edits.length}<Button kind="main" onclick={() => void land()}
        >Change {count(landed.edits.length, 'cell')}</Button
      >{:else}<Button disabled={!text.trim()} onclick={() => void look()}>Preview</Button
      >{/if}<Button onclick={onclose}>Close</Button>
  </div>
</Dialog>

<style>
  p {
    margin: 0 0 10px;
  }
  textarea {
    width: 100%;
    padding: 8px 10px;
    font: 12.5px var(--mono);
  }
  .acts {
    display: flex;
    gap: 10px;
    margin-top: 12px;
  }
  .wrong {
    max-height: 200px;
    overflow: auto;
    border-top: 1px solid var(--line);
  }
  table {
    width: 100%;
    border-collapse: collapse;
    font-size: var(--text-s);
  }
  th,
  td {
    text-align: left;
    padding: 4px 12px 4px 0;
    border-bottom: 1px solid var(--line);
    font-weight: 400;
  }
  thead th {
    color: var(--soft);
  }
</style>
