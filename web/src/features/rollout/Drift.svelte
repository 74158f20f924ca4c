<script lang="ts">
  /** What of a deployment was found to be otherwise than it was built, since when, and what to do about it. */
  import { get, send } from '../../lib/api/client';
  import type { DeploymentView, DriftView } from '../../lib/api/types';
  import { ago, count, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';

  interface Props {
    plan: string;
    /** Changes whenever a run of the plan has ended: what was found before is old then. */
    version: string;
    busy: boolean;
    onselect: (node: string) => void;
    onrepair: (nodes: string[]) => void;
    /** The plan was changed on the server. */
    ontaken: () => void;
  }
  let { plan, version, busy, onselect, onrepair, ontaken }: Props = $props();
  let view = $state.raw<DeploymentView | null>(null),
    reading = $state(false),
    accepting = $state(''),
    reason = $state(''),
    days = $state(30);
  const keyOf = (one: DriftView) => `${one.node} ${one.check}`;
  $effect(() => {
    void version;
    get(`/deployments/${plan}`)
      .then((found) => {
        view = found;
      })
      .catch((e: unknown) => notices.problem(e));
  });
  async function work(task: () => Promise<DeploymentView>) {
    reading = true;
    try {
      view = await task();
      accepting = '';
      reason = '';
    } catch (error) {
      notices.problem(error);
    } finally {
      reading = false;
    }
  }
  async function take(one: DriftView) {
    reading = true;
    try {
      await send('POST', `/deployments/${plan}/take`, { node: one.node, check: one.check });
      ontaken();
    } catch (error) {
      notices.problem(error);
    } finally {
      reading = false;
    }
  }
  const accept = (one: DriftView, days: number) =>
    work(() =>
      send('POST', `/deployments/${plan}/accept`, {
        node: one.node,
        check: one.check,
        reason,
        days,
      }),
    );
  let open = $derived(view?.drift.filter((one) => one.open) ?? []);
  let restarts = $derived([...new Set(open.filter((o) => o.puts_back).map((o) => o.node))]);
  let told = $derived.by(() => {
    if (!view) return '';
    if (view.trouble) return `not read: ${view.trouble}`;
    if (!view.read_at) return 'not read yet';
    const age = `read ${ago(view.now - view.read_at)}`;
    return view.unasked ? `${age}, ${count(view.unasked, 'check')} not asked` : age;
  });
</script>

<Section title="As built?" aside={view && !view.drift.length && view.read_at ? 'yes' : ''}>
  {#if view}
    <ul>
      {#each view.drift as one (keyOf(one))}<li class:settled={!one.open}>
          <span class="head">
            {#if one.node}<Button kind="link" onclick={() => onselect(one.node)}>{one.name}</Button> ·
              {one.label}{:else if one.host}<a href={`/estate/hosts/${one.host}`}>{one.label}</a
              >{:else}<b>cluster</b> · {one.label}{/if}</span
          >
          <span class="two"
            ><span class="quiet">built</span><span>{one.was}</span><span class="quiet">found</span
            ><b>{one.now}</b></span
          >
          <span class="quiet" title={utc(one.since)}>since {ago(view.now - one.since)}</span>
          {#if !one.open}<span
              >accepted until {utc(one.until).slice(0, 12)}: {one.reason}
              <Button kind="link" disabled={reading} onclick={() => void accept(one, 0)}
                >Undo</Button
              ></span
            >
          {:else if accepting === keyOf(one)}<form
              onsubmit={(e) => {
                e.preventDefault();
                void accept(one, days);
              }}
            >
              <label>Reason <input bind:value={reason} required maxlength="500" /></label><label
                >Days <input type="number" min="1" max="366" bind:value={days} /></label
              >
              <Button kind="main" type="submit" disabled={reading}>Accept</Button><Button
                onclick={() => {
                  accepting = '';
                }}>Cancel</Button
              >
            </form>
          {:else}<span class="choices"
              >{#if one.takes_in}<Button
                  kind="link"
                  disabled={busy || reading}
                  title="The node is planned as it was found; the next run records it"
                  onclick={() => void take(one)}>Take into plan</Button
                >{/if}<Button
                kind="link"
                onclick={() => {
                  accepting = keyOf(one);
                }}>Accept …</Button
              ></span
            >{/if}
        </li>{/each}
    </ul>
    {#if restarts.length}<Button disabled={busy} onclick={() => onrepair(restarts)}
        >Put back {count(restarts.length, 'node')}</Button
      >{/if}
    <p class="quiet">
      {told} ·
      <Button
        kind="link"
        disabled={reading || busy}
        onclick={() => void work(() => send('POST', `/deployments/${plan}/read`))}
        >{reading ? 'Reading …' : 'Read now'}</Button
      >
    </p>{/if}
</Section>

<style>
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
    font-size: var(--text-s);
  }
  li {
    display: grid;
    gap: 1px;
    padding: 4px 0 6px 10px;
    border-left: 3px solid var(--blocker);
    margin-bottom: 8px;
  }
  .choices {
    display: flex;
    gap: 12px;
  }
  .settled {
    border-color: var(--line);
  }
  .two {
    display: grid;
    grid-template-columns: 44px minmax(0, 1fr);
    gap: 0 6px;
    overflow-wrap: anywhere;
  }
  form {
    display: flex;
    flex-wrap: wrap;
    gap: 6px;
    align-items: end;
    margin-top: 4px;
  }
  label {
    display: grid;
    gap: 2px;
    color: var(--muted);
  }
  input[type='number'] {
    width: 64px;
  }
  p {
    font-size: var(--text-s);
    margin: 6px 0 0;
  }
</style>
