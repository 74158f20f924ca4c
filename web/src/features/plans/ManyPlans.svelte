<script lang="ts">
  /** Many plans from one table: one row a cluster, thought through while it is typed, made all at once. */
  import { get, send } from '../../lib/api/client';
  import type { KitLine, ManyView, RoleChoices, SharedView } from '../../lib/api/types';
  import { keepDraft, readDraft } from '../../lib/draft';
  import { count, size } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import { choiceLabel } from './choices';

  interface Props {
    kits: KitLine[];
    bays: string[];
    values: SharedView[];
    packages: string[];
    onmade: () => Promise<void>;
  }
  let { kits, bays, values, packages, onmade }: Props = $props();
  // svelte-ignore state_referenced_locally
  let kit = $state(
      kits.find((k) => packages.some((p) => p.startsWith(`${k.product} `)))?.id ??
        kits[0]?.id ??
        '',
    ),
    bay = $state(bays[0] ?? '');
  let text = $state(readDraft('many')),
    file = $state(''),
    name = $state(''),
    include = $state<string[]>([]);
  let answer = $state.raw<ManyView | null>(null),
    busy = $state(false),
    open = $state('');
  let input: HTMLInputElement | undefined = $state();
  let asked = 0,
    timer: ReturnType<typeof setTimeout> | undefined;
  let roles = $derived(kits.find((k) => k.id === kit)?.roles ?? []);
  let product = $derived(kits.find((k) => k.id === kit)?.product ?? '');
  /** What the kit can be made from; '' lets each plan take the usual one. */
  let fitting = $state.raw<RoleChoices | undefined>();
  let pack = $state('');
  $effect(() => {
    const asked = kit;
    if (asked)
      get(`/kits/${asked}/packages`)
        .then((found) => {
          if (asked === kit) {
            fitting = found.find((one) => one.role === '');
            pack = fitting?.usual ?? '';
            later();
          }
        })
        .catch((e: unknown) => notices.problem(e));
  });
  const body = (make: boolean) => ({ text, file, kit, bay, package: pack, include, make });
  async function look() {
    if (!text.trim() && !file) {
      answer = null;
      return;
    }
    const own = ++asked;
    busy = true;
    try {
      const found = await send('POST', '/plans/table', body(false));
      if (own === asked) answer = found;
    } catch (error) {
      if (own === asked) {
        answer = null;
        notices.problem(error);
      }
    } finally {
      if (own === asked) busy = false;
    }
  }
  $effect(() => keepDraft('many', text));
  // svelte-ignore state_referenced_locally
  if (text) void look();
  function later() {
    clearTimeout(timer);
    timer = setTimeout(() => void look(), 250);
  }
  async function make() {
    busy = true;
    try {
      answer = await send('POST', '/plans/table', body(true));
      text = '';
      file = '';
      await onmade();
      router.go('/plans');
    } catch (error) {
      notices.problem(error);
    } finally {
      busy = false;
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
  function example() {
    text = [
      'name\ttitle\tbay',
      ...['north', 'east', 'south', 'west'].map(
        (n) => `${n}\t${n[0]?.toUpperCase()}${n.slice(1)}ern\t${bay}`,
      ),
    ].join('\n');
    file = '';
    name = '';
    void look();
  }
  let good = $derived((answer?.plans ?? []).filter((p) => !p.faults.length));
  let blocked = $derived(good.filter((p) => p.blockers.length).length);
</script>

<div class="head">
  <label
    >Kit <select bind:value={kit} onchange={later}
      >{#each kits as k (k.id)}<option value={k.id}>{k.title}</option>{/each}</select
    ></label
  >
  <label
    >Package <select bind:value={pack} onchange={later}
      >{#each fitting?.choices ?? [] as choice (choice.title)}<option value={choice.title}
          >{choiceLabel(choice)}</option
        >{/each}{#if !fitting?.usual}<option value=""
          >{fitting?.choices.length ? 'choose one' : `no package of ${product}`}</option
        >{/if}</select
    ></label
  >
  <label
    >Default bay <select bind:value={bay} onchange={later}
      >{#each bays as b (b)}<option>{b}</option>{/each}</select
    ></label
  >
  {#if values.length}<span class="inc"
      >Include {#each values as v (v.name)}<label
          ><input
            type="checkbox"
            checked={include.includes(v.name)}
            onchange={(e) => {
              include = e.currentTarget.checked
                ? [...include, v.name]
                : include.filter((n) => n !== v.name);
              later();
            }}
          />
          {v.title || v.name}</label
        >{/each}</span
    >{/if}
</div>
<div class="two">
  <div>
    <textarea
      bind:value={text}
      rows="9"
      spellcheck="false"
      aria-label="Table of plans"
      placeholder={'name\ttitle\tbay\tpool\tcount.archive\nnorth\tNorthern gauges\tkelda-main\tkelda-survey\t2'}
      oninput={() => {
        file = '';
        name = '';
        later();
      }}></textarea>
    <p class="quiet">
      <Button onclick={() => input?.click()}>Choose a file</Button>
      {name}
      <Button kind="link" onclick={example}>Start with 4 rows</Button>
    </p>
    <input
      bind:this={input}
      type="file"
      accept=".csv,.xlsx,.tsv"
      hidden
      onchange={(e) => void take(e.currentTarget.files)}
      aria-label="File of plans"
    />
  </div>
  <div class="quiet help">
    <p><b>One row per cluster.</b> Paste from a spreadsheet, type, or choose a file. Columns:</p>
    <p>
      <span class="mono">name</span>, and where they differ from above
      <span class="mono">title bay package kit include</span>;
      <span class="mono">count.ROLE</span>{#if roles.length}{' '}(here {roles.join(', ')}){/if};
      <span class="mono">load.LOAD</span>; <span class="mono">ROLE.COLUMN</span> for one role; any
      column of the sheet for all nodes, such as <span class="mono">pool</span> or
      <span class="mono">domain</span>.
    </p>
    <p>Rows are calculated in order; each row keeps its addresses and capacity from later rows.</p>
  </div>
</div>

{#if answer}
  <div class="sum">
    <span
      ><b>{count(good.length, 'plan')}</b>, {count(
        good.reduce((n, p) => n + p.nodes, 0),
        'node',
      )}, {size(good.reduce((n, p) => n + p.memory_bytes, 0))} of memory{answer.plans.length >
      good.length
        ? ` · ${answer.plans.length - good.length} rows are not valid`
        : ''}{blocked ? ` · ${blocked} with blockers to fix later` : ''}</span
    >
    <Button
      kind="main"
      disabled={busy || !good.length || good.length < answer.plans.length}
      onclick={() => void make()}>Create {count(good.length, 'plan')}</Button
    >
  </div>
  <table>
    <thead
      ><tr
        ><th>Row</th><th>Plan</th><th class="right">Nodes</th><th class="right">Hosts</th><th
          class="right">Memory</th
        ><th>First address</th><th>Findings</th></tr
      ></thead
    >
    <tbody
      >{#each answer.plans as p (p.row)}
        <tr
          ><td class="mono quiet">{p.row}</td><th scope="row">{p.name || '(no name)'}</th><td
            class="mono right">{p.nodes || ''}</td
          ><td class="mono right">{p.hosts || ''}</td><td class="mono right"
            >{p.memory_bytes ? size(p.memory_bytes) : ''}</td
          ><td class="mono">{p.first_address}</td>
          <td
            >{#if p.faults.length}<span class="bad"
                ><Weight severity="blocker" /> {p.faults[0]}</span
              >{:else if p.blockers.length}<button
                class="link"
                aria-expanded={open === p.name}
                onclick={() => {
                  open = open === p.name ? '' : p.name;
                }}
                ><Weight severity="blocker" />
                {count(p.blockers.length, 'blocker')}: {p.blockers[0]?.message}</button
              >{:else if p.cautions}<Weight severity="caution" />
              {count(p.cautions, 'caution')}{:else}no findings{/if}
            {#if open === p.name}<ul>
                {#each p.blockers.slice(1, 8) as f, i (i)}<li>{f.message}</li>{/each}
              </ul>{/if}</td
          ></tr
        >
      {/each}</tbody
    >
  </table>
{/if}

<style>
  .head {
    display: flex;
    gap: 8px 22px;
    align-items: center;
    flex-wrap: wrap;
    padding: 12px 0 10px;
  }
  select {
    border: 1px solid var(--strong-line);
    background: var(--surface);
    padding: 5px 8px;
    border-radius: var(--radius);
    margin-left: 6px;
  }
  .inc {
    display: flex;
    gap: 12px;
  }
  .two {
    display: grid;
    grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
    gap: 28px;
  }
  textarea {
    width: 100%;
    border: 1px solid var(--strong-line);
    background: var(--surface);
    padding: 8px 10px;
    font: 12.5px/1.5 var(--mono);
    border-radius: var(--radius);
    tab-size: 14;
  }
  .help p {
    margin: 0 0 8px;
  }
  .help b,
  .sum b {
    font-weight: 600;
    color: var(--ink);
  }
  .sum {
    display: flex;
    gap: 16px;
    align-items: center;
    padding: 10px 0 4px;
    border-top: 1px solid var(--line);
  }
  .sum :global(button) {
    margin-left: auto;
  }
  table {
    width: 100%;
    border-collapse: collapse;
  }
  th,
  td {
    text-align: left;
    padding: 6px 14px 6px 0;
    border-bottom: 1px solid var(--line);
    font-weight: 400;
    vertical-align: top;
  }
  thead th {
    color: var(--soft);
    font-size: var(--text-s);
  }
  tbody th {
    font-weight: 600;
  }
  .right {
    text-align: right;
  }
  .bad {
    color: var(--blocker);
  }
  .link {
    border: 0;
    background: none;
    padding: 0;
    cursor: pointer;
    text-align: left;
    color: var(--ink);
  }
  ul {
    margin: 4px 0 0;
    padding-left: 20px;
    font-size: var(--text-s);
  }
</style>
