<script lang="ts">
  /** From a pasted or loaded list to hosts of the estate: read the lines, look at each host, compare the keys, tick, add. */
  import { ApiError, get, send } from '../../lib/api/client';
  import type { EstateView, ListingView, LookView } from '../../lib/api/types';
  import { keepDraft, readDraft } from '../../lib/draft';
  import { count, middle, span } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import type { NewLogin } from './adding';
  import FoundHosts from './FoundHosts.svelte';
  import HostLogin from './HostLogin.svelte';
  import Scan from './Scan.svelte';

  interface Props {
    onadded: (view: EstateView) => void;
    onclose: () => void;
    bays: string[];
    sites: string[];
    login: string;
  }
  let { onadded, onclose, bays, sites, login }: Props = $props();
  let looked = $state(0),
    total = $state(0),
    began = 0,
    stopped = false;
  let scanning = $state(false),
    own = $state<Record<number, { user: string; secret: string } | undefined>>({});
  let text = $state(readDraft('hosts')),
    access = $state<NewLogin>({
      user: 'root',
      credential: '',
      secret: '',
      kind: 'password',
      site: '',
      bay: '',
    });
  let listing = $state.raw<ListingView | null>(null),
    looks = $state.raw<LookView[] | null>(null);
  let ticked = $state<Record<number, boolean>>({}),
    names = $state<Record<number, string>>({});
  let known = $state.raw<string[]>([]),
    busy = $state(false),
    problem = $state(''),
    timer = 0,
    asked = 0;
  $effect(() => {
    void get('/secrets')
      .then((found) => {
        known = Object.keys(found).filter((n) => !n.includes('/'));
        access.credential ||= known.includes(login) ? login : (known[0] ?? '');
      })
      .catch(() => undefined);
  });
  $effect(() => {
    // the list is read while it is typed; nothing is dialled yet
    const wanted = text;
    keepDraft('hosts', wanted);
    clearTimeout(timer);
    timer = window.setTimeout(() => {
      const number = ++asked;
      if (!wanted.trim()) {
        listing = null;
        return;
      }
      send('POST', '/estate/list', { text: wanted })
        .then((found) => {
          if (number === asked) {
            listing = found;
            looks = null;
          }
        })
        .catch(said);
    }, 250);
  });
  let fine = $derived(looks?.filter((l) => l.outcome === 'fine') ?? []);
  let chosen = $derived(
    looks?.map((l, i) => [l, i] as const).filter(([l, i]) => l.outcome === 'fine' && ticked[i]) ??
      [],
  );
  function said(error: unknown) {
    problem =
      error instanceof ApiError ? `${error.problem.detail} ${error.problem.hint}` : String(error);
  }
  async function look() {
    busy = true;
    problem = '';
    try {
      const { user, credential, kind, secret } = access;
      if (secret) {
        await send('PUT', `/secrets/${encodeURIComponent(credential)}`, { kind, value: secret });
        access.secret = '';
      }
      clearTimeout(timer);
      asked++; // what is looked at is what stands in the list now, not what stood there a moment ago
      listing = await send('POST', '/estate/list', { text });
      const entries = await Promise.all(
        listing.entries.map(async (e, i) => {
          // use another login becomes a keyring entry of its own
          const mine = own[i];
          if (!mine?.secret && !mine?.user) return e;
          const entry = mine.secret ? `host/${e.name || e.address}` : e.credential;
          if (mine.secret)
            await send('PUT', `/secrets/${encodeURIComponent(entry ?? '')}`, {
              kind: 'password',
              value: mine.secret,
            });
          return { ...e, user: mine.user || e.user, credential: entry };
        }),
      );
      const found: LookView[] = [];
      began = Date.now();
      stopped = false;
      total = entries.length;
      for (let i = 0; i < entries.length && !stopped; i += AT_ONCE) {
        found.push(
          ...(await send('POST', '/estate/look', {
            entries: entries.slice(i, i + AT_ONCE),
            user,
            credential,
          })),
        );
        looked = found.length;
      }
      names = Object.fromEntries(
        found.map((l, i) => [
          i,
          l.entry.name ||
            (l.entry.kind === 'machine'
              ? `m-${l.address.replaceAll('.', '-')}`
              : l.hostname.split('.')[0] || l.address),
        ]),
      );
      ticked = Object.fromEntries(found.map((l, i) => [i, l.outcome === 'fine']));
      looks = found;
    } catch (error) {
      said(error);
    } finally {
      busy = false;
      looked = 0;
      total = 0;
    }
  }
  const AT_ONCE = 96; // looked at in parts, so that progress is seen and it can be stopped
  let pace = $derived(looked ? looked / Math.max(0.2, (Date.now() - began) / 1000) : 0);
  async function add() {
    busy = true;
    problem = '';
    try {
      const { user, credential, site, bay } = access;
      const request = ([l, i]: readonly [LookView, number]) => ({
        name: names[i] ?? '',
        address: l.address,
        port: l.entry.port,
        user: l.entry.user || (l.entry.kind === 'machine' && user === 'root' ? 'admin' : user),
        credential: l.entry.credential || credential,
        site: l.entry.site || site || 'main',
        bay: l.entry.bay || bay || 'new',
        rack: l.entry.rack,
        note: l.entry.note,
        tags: l.entry.tags,
      });
      const hosts = chosen.filter(([l]) => l.entry.kind !== 'machine'),
        machines = chosen.filter(([l]) => l.entry.kind === 'machine');
      if (hosts.length)
        await send(
          'POST',
          '/estate/hosts',
          hosts.map((c) => ({ fingerprint: c[0].fingerprint, host: request(c) })),
        );
      if (machines.length)
        await send(
          'POST',
          '/estate/machines',
          machines.map((c) => ({ fingerprint: c[0].fingerprint, machine: request(c) })),
        );
      keepDraft('hosts', '');
      onadded(await get('/estate'));
      onclose();
    } catch (error) {
      said(error);
    } finally {
      busy = false;
    }
  }
  async function load(input: HTMLInputElement) {
    const file = input.files?.[0];
    if (file) text = await file.text();
    input.value = '';
  }
  let checkLabel = $derived.by(() => {
    if (looks) return 'Check again';
    return busy ? 'Checking …' : `Check ${count(listing?.entries.length ?? 0, 'login')}`;
  });
</script>

<Dialog title="Add hosts and machines" wide {onclose}>
  <label class="list"
    ><span
      >Names or addresses, one per line; a table with a header; spreadsheet cells; <span
        class="mono">[bay]</span
      >
      starts a bay; <span class="mono">https://</span> or <span class="mono">machine</span> marks a management
      controller</span
    >
    <textarea
      bind:value={text}
      rows="6"
      class="mono"
      placeholder={'[kelda-main]\ngannet 10.44.1.11\nroot@10.44.1.12:22   # fulmar\n[kelda-metal]\ngneiss https://10.44.3.104'}
    ></textarea></label
  >
  <p class="count">
    <label class="file"
      >load a file <input
        type="file"
        accept=".txt,.csv,.tsv,text/*"
        onchange={(e) => void load(e.currentTarget)}
      /></label
    ><Button
      kind="link"
      onclick={() => {
        scanning = !scanning;
      }}>{scanning ? 'close scan' : 'scan a range'}</Button
    >{#if listing}<span
        ><b
          >{[
            count(listing.entries.filter((e) => e.kind !== 'machine').length, 'host'),
            ...(listing.entries.some((e) => e.kind === 'machine')
              ? [count(listing.entries.filter((e) => e.kind === 'machine').length, 'machine')]
              : []),
          ].join(', ')}</b
        >{listing.junk.length
          ? `, ${count(listing.junk.length, 'line')} that ${listing.junk.length === 1 ? 'is' : 'are'} none`
          : ''}</span
      >{/if}
  </p>
  {#if scanning}<div class="scan">
      <Scan
        onfound={(lines) => {
          text = [text.trimEnd(), ...lines].filter(Boolean).join('\n');
          scanning = false;
        }}
      />
    </div>{/if}
  {#if listing?.junk.length}<ul class="junk">
      {#each listing.junk.slice(0, 8) as j (j.line)}<li>
          <Weight severity="caution" /><span
            >{`line ${j.line}: ${j.reason} · `}<span class="mono quiet">{middle(j.text, 50)}</span
            ></span
          >
        </li>{/each}{#if listing.junk.length > 8}<li class="quiet">
          and {listing.junk.length - 8} more
        </li>{/if}
    </ul>{/if}
  <HostLogin bind:login={access} {known} {sites} {bays} />
  {#if problem}<p class="alarm" role="alert">{problem}</p>{/if}
  {#if looks}
    <FoundHosts {looks} bind:ticked bind:names bind:own />
  {/if}
  <div class="acts">
    <p class="quiet">
      {#if total > AT_ONCE}{looked} of {total} looked at{looked
          ? `, ${pace.toFixed(0)} a second, ${span((total - looked) / pace)} left`
          : ''}
        <Button
          kind="link"
          onclick={() => {
            stopped = true;
          }}>stop after these</Button
        >{:else if looks}{fine.length} of {looks.length} can be added. Compare the keys with the hosts’
        own consoles before you pin them.{:else}Checking a login changes nothing.{/if}
    </p>
    <Button
      kind={looks && fine.length ? 'plain' : 'main'}
      disabled={busy || !listing?.entries.length || !access.credential}
      onclick={() => void look()}>{checkLabel}</Button
    >
    {#if looks && fine.length}<Button
        kind="main"
        disabled={busy || !chosen.length}
        onclick={() => void add()}
        >Pin {chosen.length === 1 ? 'this key' : 'these keys'}, add {chosen.length}</Button
      >{/if}
  </div>
</Dialog>

<style>
  label {
    display: grid;
    gap: 2px;
    font-size: var(--text-s);
    color: var(--muted);
  }
  textarea {
    width: 100%;
  }

  .count {
    display: flex;
    gap: 14px;
    align-items: baseline;
    font-size: var(--text-s);
    margin: 4px 0 8px;
  }
  .file {
    display: inline;
    color: var(--accent);
    text-decoration: underline;
    text-underline-offset: 3px;
    cursor: pointer;
  }
  .file input {
    position: absolute;
    width: 1px;
    height: 1px;
    opacity: 0;
  }
  .file:focus-within {
    outline: 2px solid var(--accent);
  }
  .junk {
    list-style: none;
    margin: 0 0 10px;
    padding: 0;
    font-size: var(--text-s);
    display: grid;
    gap: 2px;
  }
  .junk li {
    display: flex;
    gap: 8px;
  }
  .scan {
    border: 1px solid var(--line);
    padding: 8px 10px;
    margin-bottom: 10px;
  }
  .acts {
    display: flex;
    gap: 12px;
    align-items: center;
    margin-top: 14px;
  }
  .acts p {
    flex: 1;
    font-size: var(--text-s);
  }
  .alarm {
    color: var(--blocker);
    font-size: var(--text-s);
    margin-bottom: 8px;
  }
</style>
