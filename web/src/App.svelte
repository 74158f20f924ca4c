<script lang="ts">
  import { get, onSessionEnded, openSession, signOut } from './lib/api/client';
  import ConnectionBanner from './lib/ConnectionBanner.svelte';
  import { connection } from './lib/connection.svelte';
  import SignInAgain from './features/login/SignInAgain.svelte';
  import type { PlanLine } from './lib/api/types';
  import { notices } from './lib/notices.svelte';
  import { follow, router } from './lib/router.svelte';
  import { theme } from './lib/theme.svelte';
  import Dialog from './lib/ui/Dialog.svelte';
  import Login from './features/login/Login.svelte';
  import Waiting from './lib/ui/Waiting.svelte';
  import { fetchAhead, pages } from './pages';

  let signedIn = $state<boolean | null>(null);
  let palette = $state(false),
    help = $state(false),
    query = $state(''),
    at = $state(0);
  let plans = $state.raw<PlanLine[]>([]);
  let place = $derived(router.parts[0] ?? '');
  let plan = $derived(place === 'plans' ? (router.parts[1] ?? '') : '');
  let reading = $derived(
    (router.parts[2] === 'run' || router.parts[2] === 'acceptance' ? router.parts[2] : 'plan') as
      'plan' | 'run' | 'acceptance',
  );
  let title = $derived(plans.find((p) => p.id === plan)?.title ?? plan);
  let ended = $state.raw<(() => void)[]>([]);
  onSessionEnded(
    () =>
      new Promise((resolve) => {
        ended = [...ended, resolve];
      }),
  );
  function signedInAgain() {
    const waiting = ended;
    ended = [];
    for (const go of waiting) go();
  }
  $effect(() => connection.watch());
  $effect(() => {
    if (signedIn) fetchAhead();
  });
  $effect(() => {
    document.documentElement.toggleAttribute('data-silent', connection.lostAt !== null);
  });
  $effect(() => {
    void openSession().then((open) => {
      signedIn = open;
    });
  });
  $effect(() => {
    if (signedIn) {
      void [place, plan];
      get('/plans')
        .then((found) => {
          plans = found;
        })
        .catch((e: unknown) => notices.problem(e));
    }
  });
  $effect(() => {
    if (!plan) document.title = 'Nimble Stone';
  });

  let commands = $derived(
    [
      ...plans.flatMap((p) => [
        { text: `Plan ${p.title} (${p.id})`, go: () => router.go(`/plans/${p.id}`) },
        ...(p.run
          ? [
              { text: `Run of ${p.title}`, go: () => router.go(`/plans/${p.id}/run`) },
              {
                text: `Acceptance of ${p.title}`,
                go: () => router.go(`/plans/${p.id}/acceptance`),
              },
            ]
          : []),
      ]),
      { text: 'Overview', go: () => router.go('/') },
      { text: 'All runs', go: () => router.go('/runs') },
      { text: 'Estate', go: () => router.go('/estate') },
      { text: 'Estate: readiness', go: () => router.go('/estate?see=fitness') },
      { text: 'Estate: networks', go: () => router.go('/estate?see=networks') },
      { text: 'Estate: host preparation', go: () => router.go('/estate?see=groundwork') },
      { text: 'Keyring', go: () => router.go('/keyring') },
      { text: 'Packages', go: () => router.go('/packages') },
      { text: 'All plans', go: () => router.go('/plans') },
      { text: 'Plans from a table', go: () => router.go('/plans?see=table') },
      { text: 'Shared values', go: () => router.go('/plans?see=values') },
      { text: 'Estate: pools', go: () => router.go('/estate?see=pools') },
      { text: 'Estate: drives', go: () => router.go('/estate?see=drives') },
      { text: theme.name === 'dark' ? 'Light theme' : 'Dark theme', go: () => theme.toggle() },
      {
        text: 'Keys',
        go: () => {
          help = true;
        },
      },
      {
        text: 'Sign out',
        go: () =>
          void signOut().then(() => {
            signedIn = false;
          }),
      },
    ].filter((c) => c.text.toLowerCase().includes(query.toLowerCase())),
  );
  function keys(event: KeyboardEvent) {
    if ((event.ctrlKey || event.metaKey) && event.key === 'k') {
      palette = true;
      query = '';
      at = 0;
      event.preventDefault();
    }
    if (event.key === '?' && !(event.target as HTMLElement).closest('input, textarea')) help = true;
  }
  function choose(i: number) {
    palette = false;
    commands[i]?.go();
  }
  const KEYS: [string, string][] = [
    ['Ctrl K', 'command palette'],
    ['/', 'filter'],
    ['arrows, Tab', 'move in the sheet'],
    ['type, Enter, F2', 'replace or edit a cell'],
    ['Shift arrows', 'select several cells'],
    ['Ctrl D', 'fill down; addresses and numbers count up'],
    ['Ctrl Enter', 'the typed value into every selected cell'],
    ['Ctrl C, Ctrl V', 'copy and paste, also from a spreadsheet'],
    ['Delete', 'reset a cell to its default'],
    ['Ctrl Z, Ctrl Y', 'undo, redo'],
    ['H, G, R', 'in a run: hold, resume, retry'],
    ['?', 'this sheet'],
  ];
</script>

<!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
<svelte:window onkeydown={keys} />
{#if signedIn === false}<Login
    onin={() => {
      signedIn = true;
    }}
  />
{:else if signedIn}
  <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
  <div class="app" onclick={follow}>
    <header>
      <a class="brand" href="/"
        ><svg width="20" height="20" viewBox="0 0 20 20" aria-hidden="true"
          ><path d="M6 1 17 4l2 9-8 6-9-4L1 6z" /></svg
        >Nimble Stone</a
      >
      <nav aria-label="Main">
        <a href="/" aria-current={place === '' ? 'page' : undefined}>Overview</a><a
          href="/estate"
          aria-current={place === 'estate' ? 'page' : undefined}>Estate</a
        ><a href="/packages" aria-current={place === 'packages' ? 'page' : undefined}>Packages</a><a
          href="/plans"
          aria-current={place === 'plans' && !plan ? 'page' : undefined}>Plans</a
        ><a href="/runs" aria-current={place === 'runs' ? 'page' : undefined}>Runs</a><a
          href="/keyring"
          aria-current={place === 'keyring' ? 'page' : undefined}>Keyring</a
        >
      </nav>
      {#if plan}<span class="where">/ {title}</span>
        <nav class="readings" aria-label="Readings">
          <a href={`/plans/${plan}`} aria-current={reading === 'plan' ? 'page' : undefined}>Plan</a
          ><a href={`/plans/${plan}/run`} aria-current={reading === 'run' ? 'page' : undefined}
            >Run</a
          ><a
            href={`/plans/${plan}/acceptance`}
            aria-current={reading === 'acceptance' ? 'page' : undefined}>Acceptance</a
          >
        </nav>{/if}
      <span class="end"
        ><button
          onclick={() => {
            palette = true;
            query = '';
            at = 0;
          }}>Ctrl K</button
        ><button onclick={() => theme.toggle()}>{theme.name === 'dark' ? 'light' : 'dark'}</button
        ><button
          onclick={() => {
            help = true;
          }}>?</button
        ></span
      >
    </header>
    <ConnectionBanner />
    <main>
      {#if plan}{#await pages.rollout()}<Waiting />{:then { default: Page }}{#key plan}<Page
              id={plan}
              {reading}
            />{/key}{:catch}<Waiting failed />{/await}
      {:else if place === 'estate'}{#await pages.estate()}<Waiting />{:then { default: Page }}<Page
          />
        {:catch}<Waiting failed />{/await}
      {:else if place === 'packages'}{#await pages.packages()}<Waiting
          />{:then { default: Page }}<Page sha={router.parts[1]} />{:catch}<Waiting
            failed
          />{/await}
      {:else if place === 'plans'}{#await pages.plans()}<Waiting />{:then { default: Page }}<Page />
        {:catch}<Waiting failed />{/await}
      {:else if place === 'keyring'}{#await pages.keyring()}<Waiting
          />{:then { default: Page }}<Page />
        {:catch}<Waiting failed />{/await}
      {:else if place === 'runs'}{#await pages.runs()}<Waiting />{:then { default: Page }}<Page />
        {:catch}<Waiting failed />{/await}
      {:else if place === ''}{#await pages.overview()}<Waiting />{:then { default: Page }}<Page />
        {:catch}<Waiting failed />{/await}
      {:else}<div class="empty">
          <h1>Page not found.</h1>
          <a href="/plans">All plans</a>
        </div>{/if}
    </main>
    <div class="notices" aria-live="assertive">
      {#each notices.list as n (n.id)}<div class="notice">
          <div>
            <b>{n.problem.title}.</b>
            {n.problem.detail} <span class="quiet">{n.problem.hint}</span>
          </div>
          <button onclick={() => notices.drop(n.id)}>Dismiss</button>
        </div>{/each}
    </div>
  </div>
{/if}
{#if signedIn && ended.length}<SignInAgain onin={signedInAgain} />{/if}
{#if palette}
  <Dialog
    title="Go to"
    onclose={() => {
      palette = false;
    }}
  >
    <!-- svelte-ignore a11y_autofocus -->
    <input
      class="query"
      bind:value={query}
      autofocus
      aria-label="Command"
      oninput={() => {
        at = 0;
      }}
      onkeydown={(e) => {
        if (e.key === 'ArrowDown') at = Math.min(commands.length - 1, at + 1);
        else if (e.key === 'ArrowUp') at = Math.max(0, at - 1);
        else if (e.key === 'Enter') choose(at);
        else return;
        e.preventDefault();
      }}
    />
    <ul class="commands" role="listbox" aria-label="Commands">
      {#each commands.slice(0, 12) as c, i (i)}<li role="option" aria-selected={i === at}>
          <button onclick={() => choose(i)}>{c.text}</button>
        </li>{:else}<li class="quiet">No match.</li>{/each}
    </ul>
  </Dialog>
{/if}
{#if help}<Dialog
    title="Keys"
    onclose={() => {
      help = false;
    }}
    ><dl>
      {#each KEYS as [k, t] (k)}<dt class="mono">{k}</dt>
        <dd>{t}</dd>{/each}
    </dl></Dialog
  >{/if}

<style>
  .app {
    display: flex;
    flex-direction: column;
    height: 100%;
  }
  header {
    display: flex;
    align-items: center;
    height: 46px;
    padding: 0 20px;
    gap: 26px;
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
  }
  .brand path {
    fill: var(--accent);
  }
  nav {
    display: flex;
    gap: 18px;
    height: 100%;
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
  }
  .end button:hover {
    color: var(--accent);
    border-color: var(--accent);
  }
  main {
    flex: 1;
    min-height: 0;
  }
  .empty {
    padding: 60px 20px;
  }
  .notices {
    position: fixed;
    left: 20px;
    bottom: 16px;
    right: 356px;
    display: flex;
    flex-direction: column;
    gap: 8px;
    z-index: 20;
  }
  .notice {
    display: flex;
    gap: 18px;
    justify-content: space-between;
    align-items: flex-start;
    background: var(--surface);
    border: 1px solid var(--blocker);
    border-left-width: 5px;
    padding: 9px 14px;
  }
  .notice button {
    border: 0;
    background: none;
    color: var(--accent);
    cursor: pointer;
    text-decoration: underline;
  }
  b {
    font-weight: 600;
  }
  .query {
    width: 100%;
    border: 1px solid var(--strong-line);
    background: var(--paper);
    padding: 8px 12px;
    border-radius: var(--radius);
  }
  .commands {
    list-style: none;
    margin: 8px 0 0;
    padding: 0;
  }
  .commands button {
    width: 100%;
    text-align: left;
    border: 0;
    background: none;
    padding: 6px 12px;
    cursor: pointer;
  }
  [aria-selected='true'] button,
  .commands button:hover {
    background: var(--accent-wash);
  }
  dl {
    display: grid;
    grid-template-columns: 150px 1fr;
    gap: 6px 14px;
    margin: 0;
  }
  dd {
    margin: 0;
  }
</style>
