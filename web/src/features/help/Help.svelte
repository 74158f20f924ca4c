<script lang="ts">
  /** The guide and the references, as they are in the docs, with the product. */
  import { router } from '../../lib/router.svelte';
  import { ORDER, texts } from './texts';

  let { name }: { name: string } = $props();
  let page: HTMLElement | undefined = $state();
  let found = $derived(texts[`../../../../docs/${name}.md`]);
  /** An address with a `#` leads to a heading or a row of the page. */
  function reach() {
    const wanted = decodeURIComponent(location.hash.slice(1));
    if (wanted) page?.querySelector(`[id="${CSS.escape(wanted)}"]`)?.scrollIntoView();
    else page?.scrollTo(0, 0);
  }
  $effect(() => {
    if (router.parts.length && page) queueMicrotask(reach);
  });
</script>

<div class="page">
  <nav aria-label="Guide">
    {#each ORDER as [id, label] (id)}<a
        href={`/help/${id}`}
        aria-current={id === name ? 'page' : undefined}>{label}</a
      >{/each}
  </nav>
  <article bind:this={page}>
    {#if found}{#await found() then text}
        <!-- eslint-disable-next-line svelte/no-at-html-tags -- made from our own docs when the page is built -->
        {@html text}{:catch}<p>This page of the guide cannot be loaded. Try again.</p>{/await}
    {:else}<h1>The guide has no page “{name}”.</h1>
      <a href="/help/guide">Start of the guide</a>{/if}
  </article>
</div>

<style>
  .page {
    display: grid;
    grid-template-columns: 190px minmax(0, 1fr);
    height: 100%;
    min-height: 0;
  }
  nav {
    display: flex;
    flex-direction: column;
    gap: 7px;
    padding: 18px 20px;
    border-right: 1px solid var(--line);
    overflow: auto;
  }
  nav a {
    color: var(--soft);
    text-decoration: none;
  }
  nav a[aria-current] {
    color: var(--ink);
    font-weight: 600;
  }
  article {
    overflow: auto;
    padding: 14px 32px 60px;
  }
  article :global(:is(p, ul, ol, dl)) {
    max-width: 76ch;
    margin: 0 0 10px;
  }
  article :global(h1) {
    font-size: var(--text-l);
    margin: 6px 0 12px;
  }
  article :global(h2) {
    font-weight: 600;
    margin: 22px 0 8px;
  }
  article :global(h3) {
    font-weight: 600;
    margin: 14px 0 6px;
    color: var(--soft);
  }
  article :global(:is(code, pre)) {
    font-family: var(--mono);
    font-size: 0.87em;
  }
  article :global(pre) {
    background: var(--sunk);
    padding: 10px 14px;
    overflow: auto;
  }
  article :global(table) {
    border-collapse: collapse;
    margin: 0 0 14px;
  }
  article :global(:is(td, th)) {
    border-bottom: 1px solid var(--line);
    text-align: left;
    vertical-align: top;
    padding: 5px 16px 5px 0;
    max-width: 68ch;
  }
  @media (max-width: 900px) {
    .page {
      grid-template-columns: minmax(0, 1fr);
    }
    nav {
      flex-direction: row;
      flex-wrap: wrap;
      border: 0;
    }
    article {
      padding: 0 20px 40px;
    }
  }
</style>
