<script lang="ts">
  /** The head of every page: where one is, and where one can go. */
  import { router } from '../../lib/router.svelte';
  import { theme } from '../../lib/theme.svelte';

  interface Props {
    plan: string;
    title: string;
    onpalette: () => void;
    onhelp: () => void;
  }
  let { plan, title, onpalette, onhelp }: Props = $props();
  let place = $derived(router.parts[0] ?? '');
  let reading = $derived(router.parts[2] ?? '');
  const PLACES = [
    ['', 'Overview'],
    ['estate', 'Estate'],
    ['packages', 'Packages'],
    ['kits', 'Kits'],
    ['plans', 'Plans'],
    ['runs', 'Runs'],
    ['keyring', 'Keyring'],
  ] as const;
  const READINGS = [
    ['', 'Plan'],
    ['run', 'Run'],
    ['acceptance', 'Acceptance'],
  ] as const;
  const here = (path: string) => place === path && !(path === 'plans' && plan);
</script>

<header>
  <a class="brand" href="/"
    ><svg width="20" height="20" viewBox="0 0 20 20" aria-hidden="true"
      ><path d="M6 1 17 4l2 9-8 6-9-4L1 6z" /></svg
    ><span>Nimble Stone</span></a
  >
  <nav aria-label="Main">
    {#each PLACES as [path, label] (path)}<a
        href={`/${path}`}
        aria-current={here(path) ? 'page' : undefined}>{label}</a
      >{/each}
  </nav>
  {#if plan}<span class="where" {title}>/ {title}</span>
    <nav class="readings" aria-label="Readings">
      {#each READINGS as [path, label] (path)}<a
          href={`/plans/${plan}${path && `/${path}`}`}
          aria-current={reading === path ? 'page' : undefined}>{label}</a
        >{/each}
    </nav>{/if}
  <span class="end"
    ><button onclick={onpalette} title="Find anything, go anywhere">Ctrl K</button><button
      onclick={() => theme.toggle()}>{theme.name === 'dark' ? 'light' : 'dark'}</button
    ><button aria-label="Help" onclick={onhelp}>?</button></span
  >
</header>

<style>
  header {
    display: flex;
    align-items: center;
    flex-wrap: wrap;
    min-height: 46px;
    padding: 0 20px;
    gap: 0 26px;
    border-bottom: 1px solid var(--strong-line);
    flex: none;
  }
  .brand {
    display: flex;
    gap: 10px;
    align-items: center;
    font-weight: 600;
    color: var(--ink);
    text-decoration: none;
    white-space: nowrap;
  }
  .brand path {
    fill: var(--accent);
  }
  nav {
    display: flex;
    gap: 18px;
    height: 46px;
  }
  nav a {
    color: var(--soft);
    text-decoration: none;
    display: flex;
    align-items: center;
    border-bottom: 2px solid transparent;
    border-top: 2px solid transparent;
  }
  nav a:hover {
    color: var(--accent);
  }
  nav a[aria-current] {
    color: var(--ink);
    font-weight: 600;
    border-bottom-color: var(--ink);
  }
  .where {
    margin-left: 8px;
    max-width: 240px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .end {
    margin-left: auto;
    display: flex;
    gap: 6px;
  }
  .end button {
    border: 1px solid var(--line);
    background: none;
    border-radius: var(--radius);
    color: var(--muted);
    font-size: var(--text-s);
    padding: 2px 9px;
    cursor: pointer;
    white-space: nowrap;
  }
  .end button:hover {
    color: var(--accent);
    border-color: var(--accent);
  }
  @media (max-width: 1080px) {
    header {
      gap: 0 16px;
      padding: 0 14px;
    }
    nav {
      gap: 12px;
    }
    .where {
      max-width: 140px;
    }
  }
  @media (max-width: 900px) {
    nav {
      height: 34px;
      flex-wrap: wrap;
    }
    .brand span {
      display: none;
    }
  }
  @media print {
    header {
      display: none;
    }
  }
</style>
