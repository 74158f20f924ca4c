<script lang="ts">
  import { ApiError, send } from '../../lib/api/client';

  import { keepDraft, readDraft } from '../../lib/draft';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  interface Props {
    id: string;
    version: number;
    onsaved: () => void;
    onclose: () => void;
  }
  let { id, version, onsaved, onclose }: Props = $props();
  let text = $state(''),
    problem = $state(''),
    hint = $state('');
  $effect(() => {
    fetchText(id);
  });
  async function fetchText(plan: string) {
    const answer = await fetch(`/api/plans/${plan}/file`);
    const stored = await answer.text();
    const draft = readDraft(`plan ${plan}`);
    text = draft || stored;
    if (draft && draft !== stored)
      problem = 'This is the text you typed before. It is not saved yet.';
  }
  async function save() {
    problem = '';
    try {
      await send('PUT', `/plans/${id}/file`, { version, text });
      keepDraft(`plan ${id}`, '');
      onsaved();
    } catch (error) {
      problem = error instanceof ApiError ? error.problem.detail : String(error);
      hint = error instanceof ApiError ? error.problem.hint : '';
    }
  }
</script>

<Dialog title="Plan file" wide {onclose}>
  <textarea
    bind:value={text}
    aria-invalid={problem ? 'true' : undefined}
    aria-describedby={problem ? 'text-problem' : undefined}
    class="mono"
    spellcheck="false"
    aria-label="Plan file"
    oninput={() => keepDraft(`plan ${id}`, text)}></textarea>
  {#if problem}<p class="bad" id="text-problem" role="alert">{problem} {hint}</p>{/if}
  <div class="acts">
    <Button kind="main" onclick={save}>Save</Button><Button
      onclick={() => {
        keepDraft(`plan ${id}`, '');
        problem = '';
        fetchText(id);
      }}>Discard my changes</Button
    ><a href={`/api/plans/${id}/file`} download>Download</a>
  </div>
  <p class="quiet">
    Comments and order are kept, whether it is edited here, in the sheet or elsewhere.
  </p>
</Dialog>

<style>
  textarea {
    width: 100%;
    height: 52vh;
    padding: 10px 12px;
    font-size: 12.5px;
    line-height: 1.5;
  }
  .acts {
    display: flex;
    gap: 16px;
    align-items: center;
    margin: 10px 0;
  }
  .bad {
    color: var(--blocker);
    margin-top: 8px;
  }
</style>
