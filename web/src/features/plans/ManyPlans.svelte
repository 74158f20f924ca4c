<script lang="ts">
  /** Many plans from one table: one row a cluster, calculated while it is typed, made and run all at once. */
  import type { KitLine, SharedView } from '../../lib/api/types';
  import { count, size } from '../../lib/format';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import { choiceLabel } from './choices';
  import { Many } from './many.svelte';
  import ManyTable from './ManyTable.svelte';
  import Together from './Together.svelte';
  import { example } from './table';

  interface Props {
    kits: KitLine[];
    bays: string[];
    values: SharedView[];
    packages: string[];
    /** The kit that plans are made of here. */
    usual: string;
    onmade: () => Promise<void>;
  }
  let { kits, bays, values, packages, usual, onmade }: Props = $props();
  // svelte-ignore state_referenced_locally
  const many = new Many(
    usual || (kits.find((k) => packages.some((p) => p.startsWith(`${k.product} `)))?.id ?? ''),
    bays[0] ?? '',
  );
  let input: HTMLInputElement | undefined = $state();
  let kit = $derived(kits.find((one) => one.id === many.kit));
  $effect(() => {
    void many.kit;
    void many.choices();
  });
  async function make(run: boolean) {
    const made = await many.make();
    if (!made.length) return;
    const started = run && (await many.run(made));
    await onmade();
    router.go(started ? '/runs' : '/plans');
  }
  let memory = $derived(many.good.reduce((n, p) => n + p.memory_bytes, 0)),
    nodes = $derived(many.good.reduce((n, p) => n + p.nodes, 0)),
    wrong = $derived((many.answer?.plans.length ?? 0) - many.good.length);
</script>

<div class="head">
  <label
    >Kit <select bind:value={many.kit}
      >{#each kits as k (k.id)}<option value={k.id}>{k.title}</option>{/each}</select
    ></label
  >
  <label
    >Package <select bind:value={many.pack} onchange={() => many.later()}
      >{#each many.fitting?.choices ?? [] as choice (choice.title)}<option value={choice.title}
          >{choiceLabel(choice)}</option
        >{/each}{#if !many.fitting?.usual}<option value=""
          >{many.fitting?.choices.length ? 'choose one' : `no package of ${kit?.product}`}</option
        >{/if}</select
    ></label
  >
  <label
    >Default bay <select bind:value={many.bay} onchange={() => many.later()}
      >{#each bays as b (b)}<option>{b}</option>{/each}</select
    ></label
  >
  {#if values.length}<span class="inc"
      >Include {#each values as v (v.name)}<label
          ><input
            type="checkbox"
            checked={many.include.includes(v.name)}
            onchange={(e) => {
              const others = many.include.filter((one) => one !== v.name);
              many.include = e.currentTarget.checked ? [...others, v.name] : others;
              many.later();
            }}
          />
          {v.title || v.name}</label
        >{/each}</span
    >{/if}
</div>
<div class="two">
  <div>
    <textarea
      bind:value={many.text}
      rows="9"
      spellcheck="false"
      aria-label="Table of plans"
      placeholder={'name\ttitle\tbay\tpool\tcount.archive\nnorth\tNorthern gauges\tkelda-main\tkelda-survey\t2'}
      oninput={() => many.typed()}></textarea>
    <p class="quiet">
      <Button onclick={() => input?.click()}>Choose a file</Button>
      {many.name}
      <Button
        kind="link"
        onclick={() => {
          many.text = example(many.bay);
          many.typed();
        }}>Start with 4 rows</Button
      >
    </p>
    <input
      bind:this={input}
      type="file"
      accept=".csv,.xlsx,.tsv"
      hidden
      onchange={(e) => {
        const file = e.currentTarget.files?.[0];
        if (file) void many.take(file);
      }}
      aria-label="File of plans"
    />
  </div>
  <div class="quiet help">
    <p><b>One row per cluster.</b> Paste from a spreadsheet, type, or choose a file. Columns:</p>
    <p>
      <span class="mono">name</span>, and where they differ from above
      <span class="mono">title bay package kit include</span>;
      <span class="mono">count.ROLE</span>{#if kit?.roles.length}{' '}(here {kit.roles.join(
          ', ',
        )}){/if}; <span class="mono">load.LOAD</span>; <span class="mono">ROLE.COLUMN</span> for one
      role; any column of the sheet for all nodes, such as <span class="mono">pool</span> or
      <span class="mono">domain</span>.
    </p>
    <p>Rows are calculated in order; each row keeps its addresses and capacity from later rows.</p>
  </div>
</div>

{#if many.answer}
  <Together {many} answer={many.answer} />
  <div class="sum">
    <span
      ><b>{count(many.good.length, 'plan')}</b>, {count(nodes, 'node')}, {size(memory)} of memory{wrong
        ? ` · ${count(wrong, 'row')} not valid`
        : ''}{many.blocked ? ` · ${many.blocked} with blockers` : ''}</span
    >
    <span class="acts"
      ><Button disabled={many.busy || !many.whole} onclick={() => void make(false)}
        >Create {count(many.good.length, 'plan')}</Button
      ><Button
        kind="main"
        disabled={many.busy || !many.whole || many.blocked > 0}
        onclick={() => void make(true)}>Create and run {many.good.length}</Button
      ></span
    >
  </div>
  <ManyTable answer={many.answer} />
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
    padding: 8px 10px;
    font: 12.5px/1.5 var(--mono);
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
  .acts {
    display: flex;
    gap: 10px;
    margin-left: auto;
  }
  @media (max-width: 900px) {
    .two {
      display: block;
    }
  }
</style>
