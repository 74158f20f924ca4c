<script lang="ts">
  /** Shared values: said once, included by many plans; a change tells beforehand which nodes it would change. */
  import { send } from '../../lib/api/client';
  import type { SharedView, TouchedView } from '../../lib/api/types';
  import { keepDraft, readDraft } from '../../lib/draft';
  import { ago, count, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';

  interface Props {
    values: SharedView[];
    onchange: () => Promise<void>;
  }
  let { values, onchange }: Props = $props();
  const NEW = 'nimble-stone: values/1\nname: \ntitle: \nvalues:\n  dns: \n  ntp: \n  domain: \n';
  let at = $state(''),
    text = $state(''),
    touched = $state.raw<TouchedView[] | null>(null),
    problem = $state('');
  let one = $derived(values.find((v) => v.name === at));
  let timer: ReturnType<typeof setTimeout> | undefined;
  let asked = 0;
  function open(name: string) {
    at = name;
    text = readDraft(`values ${name}`) || (values.find((v) => v.name === name)?.text ?? NEW);
    touched = null;
    problem = '';
    if (text !== values.find((v) => v.name === name)?.text) typed();
  }
  $effect(() => {
    if (!at && values.length)
      open(values.find((v) => v.name === router.query.get('name'))?.name ?? values[0]?.name ?? '');
  });
  const nameOf = () => /^name:\s*([a-z0-9][a-z0-9-]*)\s*$/m.exec(text)?.[1] ?? '';
  function typed() {
    keepDraft(`values ${at}`, text);
    clearTimeout(timer);
    timer = setTimeout(() => void look(), 250);
  }
  async function look() {
    const own = ++asked,
      name = nameOf();
    if (!name) {
      touched = null;
      problem = 'The line “name:” is still empty.';
      return;
    }
    try {
      const found = await send('POST', `/values/${name}/touches`, { text });
      if (own === asked) {
        touched = found;
        problem = '';
      }
    } catch (error) {
      if (own === asked) {
        touched = null;
        problem = error instanceof Error ? error.message : String(error);
      }
    }
  }
  async function keep() {
    const name = nameOf();
    try {
      await send('PUT', `/values/${name}`, {
        version: one && one.name === name ? one.version : undefined,
        text,
      });
      keepDraft(`values ${at}`, '');
      touched = null;
      await onchange();
      at = name;
    } catch (error) {
      notices.problem(error);
    }
  }
  async function remove() {
    try {
      await send('DELETE', `/values/${at}`);
      at = '';
      await onchange();
    } catch (error) {
      notices.problem(error);
    }
  }
  let nodes = $derived(touched?.filter((t) => t.differences.length).length ?? 0);
  let changed = $derived(text !== (one?.text ?? NEW));
</script>

<div class="two">
  <nav aria-label="Shared values">
    <ul>
      {#each values as v (v.name)}<li>
          <button aria-current={v.name === at} onclick={() => open(v.name)}
            ><b>{v.title || v.name}</b><span class="quiet"
              >{count(Object.keys(v.values).length, 'value')} · {v.plans.length
                ? `in ${count(v.plans.length, 'plan')}`
                : 'in no plan'}</span
            ></button
          >
        </li>{:else}<li class="quiet">
          No shared values. Put here what several plans have in common (name servers, time, domain,
          a pool). A plan includes them by name.
        </li>{/each}
    </ul>
    <Button
      onclick={() => {
        at = '(new)';
        text = NEW;
        touched = null;
        problem = '';
      }}>New shared values</Button
    >
  </nav>
  <div>
    {#if at}
      <textarea
        bind:value={text}
        rows="16"
        spellcheck="false"
        aria-label="Text of the shared values"
        oninput={typed}></textarea>
      {#if problem}<p class="bad">{problem}</p>{/if}
      <div class="acts">
        <Button kind="main" disabled={!changed || !!problem} onclick={() => void keep()}
          >{touched && nodes
            ? `Save; ${count(nodes, 'plan')} ${nodes === 1 ? 'follows' : 'follow'}`
            : 'Save'}</Button
        >{#if one}<Button
            disabled={one.plans.length > 0}
            title={one.plans.length ? 'Included by' : ''}
            onclick={() => void remove()}>Remove</Button
          ><span class="quiet" title={utc(one.changed_at)}
            >version {one.version}, {ago(Date.now() / 1000 - one.changed_at)}</span
          >{/if}
      </div>
      {#if touched}
        <h3>What would change</h3>
        {#each touched as t (t.plan)}<div class="plan">
            <a href={`/plans/${t.plan}`}>{t.plan}</a>
            <ul>
              {#each t.differences.slice(0, 8) as d (d.text)}<li>{d.text}</li>{:else}<li
                  class="quiet"
                >
                  nothing: the plan has its own values
                </li>{/each}
            </ul>
            {#if t.blockers_after > t.blockers_before}<p class="bad">
                {count(t.blockers_after - t.blockers_before, 'blocker')} more than before
              </p>{/if}
          </div>
        {:else}<p class="quiet">
            No plan includes it yet. Write <span class="mono">include: [{nameOf()}]</span> into a plan
            file, or tick it when plans are made from a table.
          </p>{/each}
      {:else if one?.plans.length}<p class="quiet">Included by {one.plans.join(', ')}.</p>{/if}
    {/if}
  </div>
</div>

<style>
  .two {
    display: grid;
    grid-template-columns: 270px minmax(0, 760px);
    gap: 34px;
    padding-top: 14px;
  }
  ul {
    list-style: none;
    margin: 0 0 12px;
    padding: 0;
  }
  nav li {
    border-bottom: 1px solid var(--line);
  }
  nav li button {
    display: flex;
    flex-direction: column;
    width: 100%;
    text-align: left;
    border: 0;
    background: none;
    padding: 7px 8px;
    cursor: pointer;
    color: var(--ink);
    font-size: inherit;
  }
  nav li button[aria-current='true'] {
    background: var(--accent-wash);
    box-shadow: inset 3px 0 var(--accent);
  }
  nav li span {
    font-size: var(--text-s);
  }
  nav li.quiet {
    padding: 6px 0;
  }
  textarea {
    width: 100%;
    padding: 10px 12px;
    font: 12.5px/1.55 var(--mono);
  }
  .acts {
    display: flex;
    gap: 12px;
    align-items: center;
    margin: 10px 0 16px;
  }
  h3 {
    font-size: inherit;
    font-weight: 600;
    margin: 0 0 6px;
  }
  .plan {
    display: grid;
    grid-template-columns: 150px 1fr;
    gap: 12px;
    border-top: 1px solid var(--line);
    padding: 6px 0;
  }
  .plan ul {
    margin: 0;
  }
  .plan p {
    grid-column: 2;
    margin: 0;
  }
  .bad {
    color: var(--blocker);
  }
</style>
