<script lang="ts">
  /** A pool made or changed: what it holds, from which end it gives, what it keeps back. What is typed stays until it was taken. */
  import { ApiError, send } from '../../lib/api/client';
  import type { EstateView, PoolView } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  interface Props {
    pool: PoolView | null;
    networks: EstateView['networks'];
    onchanged: (pools: PoolView[]) => void;
    onclose: () => void;
  }
  let { pool, networks, onchanged, onclose }: Props = $props();
  // svelte-ignore state_referenced_locally
  const was = pool;
  let kind = $state(was?.kind ?? 'ipv4'),
    name = $state(was?.name ?? ''),
    network = $state(was?.network ?? ''),
    first = $state(was?.first ?? ''),
    last = $state(was?.last ?? ''),
    order = $state(was?.order ?? 'up');
  let excluded = $state(was?.excluded ?? ''),
    reserved = $state(was?.reserved ?? '');
  let wrong = $state.raw<ApiError | null>(null),
    busy = $state(false),
    sure = $state(false);
  const KINDS: [PoolView['kind'], string, string][] = [
    ['ipv4', 'IPv4 addresses', '10.44.20.11'],
    ['ipv6', 'IPv6 addresses', 'fd44::100'],
    ['mac', 'MAC addresses', '52:54:00:44:00:01'],
    ['number', 'numbers', '1'],
  ];
  let example = $derived(KINDS.find(([one]) => one === kind)?.[2] ?? ''),
    there = $derived(networks.find((n) => n.name === network));
  let held = $derived(was?.members.filter((m) => m.state === 'held').length ?? 0);
  async function go(work: () => Promise<PoolView[]>) {
    busy = true;
    try {
      onchanged(await work());
      onclose();
    } catch (error) {
      if (error instanceof ApiError) wrong = error;
      else throw error;
    } finally {
      busy = false;
    }
  }
</script>

<Dialog title={was ? `Pool ${was.name}` : 'New pool'} {onclose} wide>
  <form
    onsubmit={(e) => {
      e.preventDefault();
      void go(() =>
        send('PUT', '/pools', {
          name,
          kind,
          network,
          first,
          last,
          order,
          excluded,
          reserved,
        }),
      );
    }}
  >
    <label
      >Name<input
        bind:value={name}
        required
        disabled={was !== null}
        maxlength="60"
        placeholder="kelda-survey"
      /></label
    >
    <label
      >Holds<select bind:value={kind} disabled={was !== null}
        >{#each KINDS as [one, words] (one)}<option value={one}>{words}</option>{/each}</select
      ></label
    >
    {#if kind === 'ipv4' || kind === 'ipv6'}<label
        >of network<select bind:value={network} required
          ><option value="" disabled>choose</option>{#each networks as n (n.name)}<option
              >{n.name}</option
            >{/each}</select
        ></label
      >{:else}<span></span>{/if}
    <label
      >First<input
        class="mono"
        bind:value={first}
        required
        placeholder={example}
        aria-invalid={wrong ? 'true' : undefined}
        aria-describedby={wrong ? 'wrong' : undefined}
      /></label
    >
    <label
      >Last (included)<input class="mono" bind:value={last} required placeholder={example} /></label
    >
    <label
      >Assign<select bind:value={order}
        ><option value="up">from the first</option><option value="down">from the last</option
        ></select
      ></label
    >
    <label class="wide"
      >Excluded (items and ranges, comma-separated)<input
        class="mono"
        bind:value={excluded}
        placeholder={kind === 'ipv4' ? '10.44.20.20, 10.44.20.30-10.44.20.39' : ''}
        spellcheck="false"
      /></label
    >
    <label class="wide"
      >Reserved, one per line: the item and for whom<textarea
        class="mono"
        bind:value={reserved}
        rows="3"
        spellcheck="false"
        placeholder={`${example} the old filer`}></textarea></label
    >
    {#if there}<p class="wide quiet">
        {there.name} is
        <span class="mono"
          >{kind === 'ipv6' ? (there.subnet6 ?? 'without IPv6') : there.subnet}</span
        >, gateway
        <span class="mono">{kind === 'ipv6' ? (there.gateway6 ?? 'none') : there.gateway}</span
        >{there.dynamic_first && kind === 'ipv4'
          ? `; DHCP hands out ${there.dynamic_first} to ${there.dynamic_last}, which pools leave out`
          : ''}.
      </p>{/if}
    {#if wrong}<p class="wide wrong" id="wrong" role="alert">
        <b>{wrong.problem.detail}</b>
        {wrong.problem.hint}
      </p>{/if}
    <div class="wide acts">
      <Button kind="main" type="submit" disabled={busy}>{was ? 'Save pool' : 'Create pool'}</Button>
      {#if was}{#if sure}<Button
            disabled={busy}
            onclick={() => void go(() => send('DELETE', `/pools/${was.name}`))}
            >Delete {was.name}</Button
          >{:else}<Button
            onclick={() => {
              sure = true;
            }}>Delete pool</Button
          >{/if}{/if}
      <span class="quiet"
        >{#if held}{held} are assigned; plans keep those that stay in the range.{:else if was}Nothing
          is assigned.{/if}</span
      >
    </div>
  </form>
</Dialog>

<style>
  form {
    display: grid;
    grid-template-columns: 1.2fr 1fr 1fr;
    gap: 11px 14px;
  }
  label {
    display: grid;
    gap: 3px;
    font-size: var(--text-s);
    color: var(--muted);
    align-content: start;
  }
  .wide {
    grid-column: 1 / -1;
  }
  input,
  select,
  textarea {
    font-size: var(--text-s);
    width: 100%;
  }

  input:disabled,
  select:disabled {
    color: var(--muted);
    border-color: var(--line);
  }
  .acts {
    display: flex;
    gap: 10px;
    align-items: center;
  }
  .wrong {
    border-left: 3px solid var(--blocker);
    padding: 2px 10px;
  }
  b {
    font-weight: 600;
    display: inline-block;
  }
  b::first-letter {
    text-transform: uppercase;
  }
  p {
    margin: 0;
    font-size: var(--text-s);
  }
</style>
