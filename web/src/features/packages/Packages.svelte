<script lang="ts">
  import { ApiError, get } from '../../lib/api/client';
  import type { PackageItem } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import HeadBar from '../../lib/ui/HeadBar.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import Later from '../../lib/ui/Later.svelte';
  import { parts } from './parts';
  import { dropped, together } from './sets';
  import PackageList from './PackageList.svelte';
  import ImportRow from './ImportRow.svelte';
  import { TakeIns, type Chosen } from './imports.svelte';

  interface Props {
    sha?: string;
  }
  let { sha = '' }: Props = $props();
  let list = $state.raw<PackageItem[] | null>(null);
  let over = $state(false),
    fetching = $state(false),
    trusting = $state(false),
    url = $state(''),
    digest = $state(''),
    problem = $state('');
  let files: HTMLInputElement | undefined = $state(),
    folder: HTMLInputElement | undefined = $state();
  const load = () =>
    get('/packages')
      .then((found) => {
        list = found;
      })
      .catch((e: unknown) => notices.problem(e));
  const takeIns = new TakeIns(
    (row) => {
      void load();
      if (takeIns.mine(row.id)) router.go(`/packages/${row.package}`);
    },
    (trouble) => notices.problem(new ApiError(trouble)),
  );
  $effect(() => {
    void load();
    void takeIns.look();
    return () => takeIns.end();
  });
  let shown = $derived([...takeIns.active, ...takeIns.refused.slice(0, 5)]);
  let moving = $derived(
    takeIns.active.filter(
      (t) => takeIns.mine(t.id) || t.source !== 'upload' || t.state === 'verifying',
    ),
  );
  let products = $derived(new Set(list?.map((p) => p.product)).size);
  function take(chosen: Chosen[]) {
    for (const set of together(chosen)) void takeIns.take(set);
  }
  function chosen(input: HTMLInputElement | undefined) {
    if (!input) return;
    take([...(input.files ?? [])].map((file) => ({ name: file.name, file })));
    input.value = '';
  }
  async function fetchIt() {
    problem = '';
    try {
      await takeIns.fetch(url, digest);
      fetching = false;
      url = '';
      digest = '';
    } catch (e) {
      problem = e instanceof ApiError ? `${e.problem.detail} ${e.problem.hint}` : String(e);
    }
  }
</script>

<svelte:window
  ondragover={(e) => {
    e.preventDefault();
    over = true;
  }}
  ondragleave={(e) => {
    if (!e.relatedTarget) over = false;
  }}
  ondrop={(e) => {
    e.preventDefault();
    over = false;
    if (e.dataTransfer) void dropped(e.dataTransfer).then(take);
  }}
/>
<input
  bind:this={files}
  type="file"
  multiple
  hidden
  onchange={() => chosen(files)}
  aria-label="Files of packages"
/>
<input
  bind:this={folder}
  type="file"
  webkitdirectory
  hidden
  onchange={() => chosen(folder)}
  aria-label="Folder of a package"
/>
{#if over}<div class="drop" aria-hidden="true">Drop to import</div>{/if}

<div class="page">
  {#if sha === 'compare'}<Later load={parts.compare} {list} />
  {:else if sha}<Later load={parts.one} {sha} onchange={load} />
  {:else}
    <HeadBar>
      <h1>
        {#if list && !list.length}No packages. <b
            >Drop an OVA, a disk, an ISO or a folder anywhere on this page.</b
          >{:else if list}{count(list.length, 'package')} of {count(products, 'product')}.
          <b
            >{takeIns.active.length
              ? `${count(takeIns.active.length, 'more', 'more')} importing.`
              : 'Drop more anywhere on this page.'}</b
          >{:else}Loading packages …{/if}
      </h1>
      <p class="quiet">
        The type is detected from the content. Digests and signatures are verified; failed imports
        are not stored.
      </p>
      {#snippet acts()}
        <Button
          onclick={() => {
            trusting = true;
          }}>Trusted publishers</Button
        ><Button
          onclick={() => {
            fetching = true;
          }}>Import from URL …</Button
        ><Button onclick={() => folder?.click()}>Import folder …</Button><Button
          kind="main"
          onclick={() => files?.click()}>Import files …</Button
        >
      {/snippet}
    </HeadBar>
    <div class="body">
      {#if shown.length}<section aria-label="Importing">
          {#each shown as row (row.id)}<ImportRow
              {row}
              mine={takeIns.mine(row.id)}
              onstop={() => void takeIns.stop(row.id)}
              onresume={() => files?.click()}
            />{/each}
        </section>{/if}
      {#if list}<PackageList {list} />{/if}
    </div>
  {/if}
  {#if sha && moving.length}<section class="foot" aria-label="Importing">
      {#each moving as row (row.id)}<ImportRow
          {row}
          mine={takeIns.mine(row.id)}
          onstop={() => void takeIns.stop(row.id)}
          onresume={() => files?.click()}
        />{/each}
    </section>{/if}
</div>
{#if fetching}
  <Dialog
    title="Import a package from a URL"
    onclose={() => {
      fetching = false;
    }}
  >
    <form
      onsubmit={(e) => {
        e.preventDefault();
        void fetchIt();
      }}
    >
      <label
        >Address <input
          bind:value={url}
          aria-invalid={problem ? 'true' : undefined}
          aria-describedby={problem ? 'import-problem' : undefined}
          required
          placeholder="https://files.kelda.holm.example/gauge-collector-4.3.0.ova"
        /></label
      >
      <label
        >SHA-256, if published <input
          bind:value={digest}
          class="mono"
          placeholder="64 hexadecimal digits"
        /></label
      >
      {#if problem}<p class="alarm" id="import-problem" role="alert">{problem}</p>{/if}
      <p class="quiet">
        Only allowed networks are used. A broken connection resumes where it stopped.
      </p>
      <Button kind="main" type="submit" disabled={!url}>Import</Button>
    </form>
  </Dialog>
{/if}
{#if trusting}<Later
    load={parts.trust}
    onclose={() => {
      trusting = false;
    }}
  />{/if}

<style>
  .page {
    display: flex;
    flex-direction: column;
    height: 100%;
    padding: 0 20px;
    min-height: 0;
  }
  .drop {
    position: fixed;
    inset: 60px 20px 20px;
    border: 3px dashed var(--accent);
    background: color-mix(in srgb, var(--accent-wash) 85%, transparent);
    display: grid;
    place-items: center;
    font-size: 26px;
    z-index: 9;
    pointer-events: none;
  }
  .body {
    overflow: auto;
    flex: 1;
    min-height: 0;
    padding-bottom: 30px;
  }
  .foot {
    border-top: 1px solid var(--strong-line);
  }
  form {
    display: grid;
    gap: 12px;
    justify-items: start;
  }
  label {
    display: grid;
    gap: 3px;
    width: 100%;
    font-size: var(--text-s);
    color: var(--muted);
  }

  .alarm {
    color: var(--blocker);
  }
</style>
