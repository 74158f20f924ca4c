<script lang="ts">
  import { get } from '../../lib/api/client';
  import type { CompareView, PackageItem } from '../../lib/api/types';
  import { count, size } from '../../lib/format';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import HeadBar from '../../lib/ui/HeadBar.svelte';
  import Section from '../ledger/Section.svelte';

  interface Props {
    list: PackageItem[] | null;
  }
  let { list }: Props = $props();
  let found = $state.raw<CompareView | null>(null);
  let trouble = $state('');
  let older = $derived(router.query.get('old') ?? ''),
    newer = $derived(router.query.get('new') ?? '');
  $effect(() => {
    if (older && newer)
      get(`/packages/compare?old=${older}&new=${newer}`)
        .then((f) => {
          found = f;
          trouble = '';
        })
        .catch((e: unknown) => {
          trouble = e instanceof Error ? e.message : String(e);
        });
  });
  const TITLE: Record<string, string> = {
    sizes: 'Sizes',
    questions: 'Settings',
    networks: 'Networks',
    disks: 'Disks',
    devices: 'Devices',
    licence: 'Licence text',
  };
  const SIGN: Record<string, string> = { added: 'new', removed: 'gone', changed: 'changed' };
  let groups = $derived(
    Object.keys(TITLE).map((key) => ({
      key,
      changes: found?.changes.filter((c) => c.group === key) ?? [],
    })),
  );
  let same = $derived(
    groups.filter((g) => !g.changes.length).map((g) => TITLE[g.key]!.toLowerCase()),
  );
  const choose = (which: 'old' | 'new', sha: string) =>
    router.go(
      `/packages/compare?old=${which === 'old' ? sha : older}&new=${which === 'new' ? sha : newer}`,
      true,
    );
</script>

{#if trouble}<div class="empty">
    <h1>These two cannot be compared. {trouble}</h1>
    <a href="/packages">All packages</a>
  </div>
{:else if found}
  {@const newest = found.new}
  <HeadBar>
    <h1>
      From <b>{found.old.product} {found.old.version}</b> to
      <b>{found.new.product} {found.new.version}</b>: {found.changes.length
        ? `${count(found.changes.length, 'change')} to know before upgrading.`
        : 'nothing to know before upgrading.'}
    </h1>
    <p class="quiet">{same.length ? `unchanged: ${same.join(', ')}` : ''}</p>
    {#snippet acts()}
      <Button onclick={() => router.go(`/packages/${newest.sha256}`)}>{newest.version}</Button
      ><Button onclick={() => router.go('/packages')}>All packages</Button>
    {/snippet}
  </HeadBar>
  <div class="pick">
    {#each [['old', found.old], ['new', found.new]] as const as [which, own] (which)}<label
        >{which === 'old' ? 'From' : 'To'}
        <select
          value={own.sha256}
          onchange={(e) => choose(which, e.currentTarget.value.slice(0, 16))}
          >{#each list ?? [] as p (p.sha256)}<option value={p.sha256}
              >{p.product} {p.version}{p.channel ? ` (${p.channel})` : ''}</option
            >{/each}</select
        ><span class="mono">{size(own.thin_bytes)} thin · {size(own.full_bytes)} full</span></label
      >{/each}
  </div>
  <div class="body">
    {#each groups.filter((g) => g.changes.length) as g (g.key)}
      <Section title={TITLE[g.key]!} aside={count(g.changes.length, 'change')}>
        <table>
          <tbody
            >{#each g.changes as c, i (i)}<tr data-kind={c.kind}
                ><td class="sign"><span>{SIGN[c.kind]}</span></td><th scope="row">{c.what}</th><td
                  class="old">{c.before || '—'}</td
                ><td class="new">{c.after || '—'}</td></tr
              >{/each}</tbody
          >
        </table>
      </Section>
    {/each}
  </div>
{/if}

<style>
  .pick {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 24px;
    padding: 6px 0;
    border-bottom: 1px solid var(--line);
    font-size: var(--text-s);
  }
  .pick label {
    display: flex;
    gap: 10px;
    align-items: baseline;
  }

  .body {
    overflow: auto;
    flex: 1;
    min-height: 0;
    padding: 14px 0 30px;
  }
  table {
    border-collapse: collapse;
    width: 100%;
    table-layout: fixed;
  }
  td,
  th {
    padding: 5px 16px 5px 0;
    text-align: left;
    vertical-align: top;
    font-size: var(--text-s);
    border-bottom: 1px solid var(--line);
    overflow-wrap: anywhere;
    white-space: pre-line;
  }
  th {
    font-weight: 600;
    width: 20%;
  }
  .sign {
    width: 84px;
  }
  .sign span {
    font-size: var(--text-xs);
    border: 1px solid var(--strong-line);
    padding: 0 7px;
    border-radius: var(--radius);
  }
  [data-kind='added'] .sign span {
    background: var(--accent-wash);
  }
  [data-kind='removed'] .sign span {
    border-style: dashed;
  }
  [data-kind='changed'] .sign span {
    background: var(--sunk);
  }
  .old {
    color: var(--muted);
  }
  [data-kind='removed'] .old,
  [data-kind='changed'] .old {
    text-decoration: line-through;
    text-decoration-color: var(--strong-line);
  }
  .new {
    font-weight: 600;
  }
  .empty {
    padding: 40px 0;
  }
</style>
