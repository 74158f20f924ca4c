<script lang="ts">
  /** Who is signed in, which page is shown, and what lies over it. */
  import { get, openSession, signOut } from './lib/api/client';
  import type { PlanLine } from './lib/api/types';
  import ConnectionBanner from './lib/ConnectionBanner.svelte';
  import { connection } from './lib/connection.svelte';
  import { openFindings } from './lib/findings.svelte';
  import { notices } from './lib/notices.svelte';
  import { isTyping, prefs } from './lib/prefs.svelte';
  import { follow, router } from './lib/router.svelte';
  import { session } from './lib/session.svelte';
  import { setTab } from './lib/tab.svelte';
  import { theme } from './lib/theme.svelte';
  import Login from './features/login/Login.svelte';
  import SignInAgain from './features/login/SignInAgain.svelte';
  import Header from './features/shell/Header.svelte';
  import Notices from './features/shell/Notices.svelte';
  import Pages from './Pages.svelte';
  import { collect } from './lib/early';
  import Later from './lib/ui/Later.svelte';
  import { fetchAhead, shell } from './pages';

  let signedIn = $state<boolean | null>(null);
  let palette = $state(false),
    help = $state(false);
  let early: ReturnType<typeof collect> | undefined;
  function openPalette() {
    if (palette) return;
    palette = true;
    early = collect(closePalette);
    // where it cannot be fetched, what is typed is the page's again
    shell.palette().catch(early);
  }
  function closePalette() {
    palette = false;
    early?.();
  }
  let plans = $state.raw<PlanLine[]>([]);
  let place = $derived(router.parts[0] ?? '');
  let plan = $derived(place === 'plans' ? (router.parts[1] ?? '') : '');
  let title = $derived(plans.find((p) => p.id === plan)?.title ?? plan);
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
    if (!plan) setTab('Nimble Stone');
  });

  let commands = $derived([
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
  ]);
  function keys(event: KeyboardEvent) {
    if ((event.ctrlKey || event.metaKey) && event.key === 'k') {
      openPalette();
      event.preventDefault();
    }
    if (event.key === '?' && prefs.letters && !isTyping(event.target)) help = true;
  }
</script>

<svelte:window onkeydowncapture={() => session.typed()} onkeydown={keys} />
{#if signedIn === null}<p class="first-paint">Nimble Stone</p>
{:else if signedIn === false}<Login
    onin={() => {
      signedIn = true;
    }}
  />
{:else}
  <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
  <div class="app" onclick={follow}>
    <Header
      {plan}
      {title}
      onpalette={openPalette}
      onhelp={() => {
        help = true;
      }}
    />
    <ConnectionBanner />
    <main><Pages {place} {plan} /></main>
    <Notices />
    {#if palette}<Later
        load={shell.palette}
        {plans}
        {commands}
        findings={openFindings.list}
        early={() => early?.()}
        onclose={closePalette}
      />{/if}
    {#if help}<Later
        load={shell.keys}
        onclose={() => {
          help = false;
        }}
      />{/if}
  </div>
{/if}
{#if signedIn && session.asking}<SignInAgain onin={() => session.signedIn()} />{/if}

<style>
  .app {
    display: flex;
    flex-direction: column;
    height: 100%;
  }
  main {
    flex: 1;
    min-height: 0;
  }
  @media print {
    .app,
    main {
      display: block;
      height: auto;
      overflow: visible;
    }
  }
</style>
