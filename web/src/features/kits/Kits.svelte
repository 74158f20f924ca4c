<script lang="ts">
  import { get, send } from '../../lib/api/client';
  import type { KitAbout, KitList, KitPage } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import HeadBar from '../../lib/ui/HeadBar.svelte';
  import Waiting from '../../lib/ui/Waiting.svelte';
  import KitAboutView from './KitAboutView.svelte';
  import KitShelf from './KitShelf.svelte';
  import KitText from './KitText.svelte';
  import KitVersions from './KitVersions.svelte';

  let { ident = '' }: { ident?: string } = $props();
  let shelf = $state.raw<KitList | null>(null);
  let page = $state.raw<KitPage | null>(null);
  let about = $state.raw<KitAbout | null>(null);
  let shown = $state<'read' | 'text' | 'versions'>('read'),
    sure = $state(false),
    missing = $state('');
  function show(found: KitPage) {
    page = found;
    about = found.about;
  }
  $effect(() => {
    page = null;
    shown = 'read';
    missing = '';
    sure = false;
    if (ident)
      get(`/kits/${ident}`)
        .then(show)
        .catch((e: unknown) => {
          missing = e instanceof Error ? e.message : String(e);
        });
    else
      get('/kits/shelf')
        .then((found) => {
          shelf = found;
        })
        .catch((e: unknown) => notices.problem(e));
  });
  function kept(found: KitPage) {
    if (found.about.id !== ident) router.go(`/kits/${found.about.id}`);
    else show(found);
    notices.say(
      'Kit saved',
      'New plans and checks use it. Runs keep the kit that they began with.',
    );
  }
  async function remove() {
    try {
      await send('DELETE', `/kits/${ident}`);
      router.go('/kits');
    } catch (e) {
      notices.problem(e);
    }
  }
  let own = $derived(shelf?.kits.filter((kit) => kit.own).length ?? 0);
</script>

<div class="page">
  {#if !ident}
    <HeadBar>
      <h1>
        {shelf ? `${count(shelf.kits.length, 'kit')}${own ? `, ${own} own` : ''}.` : 'Kits'}
      </h1>
      <p>
        A kit describes a product: roles, settings, order, calls and checks. Own kits are files in
        the folder <span class="mono">kits</span> of the server's data.
      </p>
      {#snippet acts()}<a href="/help/kits">How to write one</a>{/snippet}
    </HeadBar>
    {#if shelf}<KitShelf {shelf} />{:else}<Waiting />{/if}
  {:else if missing}<h1>{missing}</h1>
    <p><a href="/kits">All kits</a></p>
  {:else if page && about}
    <HeadBar>
      <h1>{about.title}</h1>
      <p>{about.summary || about.takes}</p>
      <p class="quiet">
        {page.plans.length
          ? `Used by ${page.plans.slice(0, 4).join(', ')}${page.plans.length > 4 ? ` and ${page.plans.length - 4} more` : ''}.`
          : 'No plan uses it.'}
      </p>
      {#snippet acts()}
        <Button
          onclick={() => {
            shown = shown === 'text' ? 'read' : 'text';
          }}>{shown === 'text' ? 'Read' : 'Edit text'}</Button
        >
        <Button
          onclick={() => {
            shown = shown === 'versions' ? 'read' : 'versions';
          }}>{shown === 'versions' ? 'Read' : 'Versions'}</Button
        >
        {#if page?.own && sure}<Button kind="danger" onclick={() => void remove()}
            >Delete {ident}</Button
          >{:else if page?.own}<Button
            onclick={() => {
              sure = true;
            }}>Delete kit</Button
          >{/if}
        <a href="/kits">All kits</a>
      {/snippet}
    </HeadBar>
    {#if shown === 'versions'}{#key ident}<KitVersions
          {ident}
          onedit={() => {
            shown = 'text';
          }}
        />{/key}{:else if shown === 'text'}{#key ident}<KitText
          {ident}
          text={page.text}
          own={page.own}
          onabout={(found) => {
            about = found;
          }}
          onkept={kept}
        />{/key}{:else}<KitAboutView {about} />{/if}
  {:else}<Waiting />{/if}
</div>

<style>
  .page {
    padding: 12px 20px 30px;
    overflow: auto;
    flex: 1;
  }
</style>
