<script lang="ts">
  /** Looking through a range: what answers is ticked and goes to the list above. */
  import { ApiError, get, send } from '../../lib/api/client';
  import type { ScanView } from '../../lib/api/types';
  import { count, span } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';

  interface Props {
    onfound: (lines: string[]) => void;
  }
  let { onfound }: Props = $props();
  let range = $state(''),
    scan = $state.raw<ScanView | null>(null),
    problem = $state(''),
    ticked = $state<Record<string, boolean>>({}),
    timer = 0;
  const said = (error: unknown) => {
    problem =
      error instanceof ApiError ? `${error.problem.detail} ${error.problem.hint}` : String(error);
  };
  const key = (s: ScanView['seen'][number]) => `${s.address}:${s.port}`;
  let usable = $derived(scan?.seen.filter((s) => s.kind !== 'other' && !s.known) ?? []);
  async function begin() {
    problem = '';
    ticked = {};
    try {
      scan = await send('POST', '/estate/scans', { range });
      poll();
    } catch (error) {
      said(error);
    }
  }
  function poll() {
    clearTimeout(timer);
    timer = window.setTimeout(() => {
      void get(`/estate/scans/${scan!.id}`)
        .then((found) => {
          scan = found;
          if (found.state === 'running') poll();
        })
        .catch(said);
    }, 250);
  }
  $effect(() => () => clearTimeout(timer));
  async function stop() {
    try {
      scan = await send('DELETE', `/estate/scans/${scan!.id}`);
    } catch (error) {
      said(error);
    }
  }
  const KINDS = { ssh: 'host, by SSH', redfish: 'machine, by Redfish', other: 'something else' };
  type Seen = NonNullable<typeof scan>['seen'][number];
  /** What answered, as a line of the list of hosts. */
  function listed(one: Seen): string {
    if (one.kind === 'redfish') return `https://${one.address}:${one.port}`;
    return one.port === 22 ? one.address : `${one.address}:${one.port}`;
  }
  function pace(one: NonNullable<typeof scan>): string {
    if (one.state === 'running')
      return `, ${one.rate.toFixed(0)} a second, ${span(one.left_s)} left`;
    return one.state === 'stopped' ? '; stopped' : '';
  }
  const take = () => onfound(usable.filter((s) => ticked[key(s)] ?? true).map((s) => listed(s)));
</script>

<form
  class="begin"
  onsubmit={(e) => {
    e.preventDefault();
    void begin();
  }}
>
  <label
    >Addresses: at most 4,096, within the allowed networks <input
      class="mono"
      bind:value={range}
      aria-invalid={problem ? 'true' : undefined}
      aria-describedby={problem ? 'scan-problem' : undefined}
      placeholder="10.44.1.0/24, 10.44.3.101-106"
    /></label
  ><Button type="submit" disabled={!range.trim() || scan?.state === 'running'}>Scan</Button>
</form>
{#if problem}<p class="alarm" id="scan-problem" role="alert">{problem}</p>{/if}
{#if scan}
  <div
    class="track"
    role="progressbar"
    aria-valuemin="0"
    aria-valuemax={scan.total}
    aria-valuenow={scan.asked}
    aria-label="Scan"
  >
    <i style:width={`${(100 * scan.asked) / Math.max(1, scan.total)}%`}></i>
  </div>
  <p class="how">
    <span
      >{scan.asked} of {count(scan.total, 'question')} asked{pace(scan)} ·
      <b>{count(usable.length, 'new one')}</b>{scan.seen.length > usable.length
        ? `, ${scan.seen.length - usable.length} known or something else`
        : ''}</span
    >{#if scan.state === 'running'}<Button onclick={() => void stop()}>Stop</Button>{/if}
  </p>
  {#if scan.seen.length}<div class="seen">
      <table>
        <tbody
          >{#each scan.seen as s (key(s))}<tr class:dull={s.known || s.kind === 'other'}
              ><td
                >{#if !s.known && s.kind !== 'other'}<input
                    type="checkbox"
                    checked={ticked[key(s)] ?? true}
                    onchange={(e) => {
                      ticked = { ...ticked, [key(s)]: e.currentTarget.checked };
                    }}
                    aria-label={`Take ${key(s)}`}
                  />{/if}</td
              ><td class="mono">{s.address}<span class="quiet">:{s.port}</span></td><td
                >{KINDS[s.kind]}</td
              ><td class="quiet">{s.known ? `in the estate as ${s.known}` : s.words}</td></tr
            >{/each}</tbody
        >
      </table>
    </div>
    <p class="how">
      <span class="quiet">Selected addresses go to the list; nothing is added yet.</span><Button
        disabled={!usable.some((s) => ticked[key(s)] ?? true)}
        onclick={take}
        >Add {count(usable.filter((s) => ticked[key(s)] ?? true).length, 'address', 'addresses')} to the
        list</Button
      >
    </p>{/if}
{/if}

<style>
  .begin {
    display: grid;
    grid-template-columns: 1fr auto;
    gap: 10px;
    align-items: end;
  }
  label {
    display: grid;
    gap: 2px;
    font-size: var(--text-s);
    color: var(--muted);
  }
  input:not([type='checkbox']) {
    width: 100%;
  }
  .track {
    height: 4px;
    background: var(--sunk);
    margin-top: 8px;
  }
  .track i {
    display: block;
    height: 100%;
    background: var(--ink);
  }
  .how {
    display: flex;
    justify-content: space-between;
    align-items: center;
    gap: 12px;
    font-size: var(--text-s);
    margin: 4px 0;
  }
  .seen {
    max-height: 24vh;
    overflow: auto;
    border-block: 1px solid var(--strong-line);
  }
  table {
    border-collapse: collapse;
    width: 100%;
    font-size: var(--text-s);
  }
  td {
    padding: 3px 10px 3px 0;
    border-top: 1px solid var(--line);
  }
  .dull td {
    color: var(--muted);
  }
  .alarm {
    color: var(--blocker);
    font-size: var(--text-s);
    margin-top: 6px;
  }
</style>
