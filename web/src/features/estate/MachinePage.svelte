<script lang="ts">
  /** One bare machine, as its management controller tells it, and its power. */
  import { get, send } from '../../lib/api/client';

  import { ago, count, size, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import HeadBar from '../../lib/ui/HeadBar.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import Section from '../ledger/Section.svelte';
  import type { EstateData } from './estate.svelte';
  import Copy from '../../lib/ui/Copy.svelte';

  interface Props {
    name: string;
    data: EstateData;
  }
  let { name, data }: Props = $props();
  let one = $derived(data.view?.machines.find((m) => m.machine.name === name));
  let f = $derived(one?.facts);
  let mine = $derived(data.fitness?.violations.filter((v) => v.host === name) ?? []);
  let request = $state(''),
    typed = $state(''),
    retiring = $state(false),
    shown = $state<{ fingerprint: string; subject: string; odd: string } | null>(null);
  let age = $derived(data.view && f?.read_at ? data.view.now - f.read_at : 0);
  let threads = $derived(f?.processors?.reduce((sum, p) => sum + (p.threads ?? 0), 0) ?? 0);
  let raw = $derived(f?.drives?.reduce((sum, d) => sum + (d.size_bytes ?? 0), 0) ?? 0);
  const WORDS: Record<string, string> = {
    On: 'Power on',
    GracefulShutdown: 'Shut down',
    ForceOff: 'Power off (hard)',
    ForceRestart: 'Restart (hard)',
    GracefulRestart: 'Restart',
    PowerCycle: 'Power cycle',
  };
  let offered = $derived(
    (f?.resets?.length ? f.resets : Object.keys(WORDS)).filter(
      (k) => WORDS[k] && (f?.power === 'On' ? k !== 'On' : k === 'On'),
    ),
  );
  async function go() {
    const kind = request,
      confirmed = typed;
    if (
      await data.work('switching', () =>
        send('POST', `/estate/machines/${name}/power`, { kind, confirmed }),
      )
    ) {
      request = '';
      typed = '';
    }
  }
  const look = () =>
    get(`/estate/machines/${name}/certificate`)
      .then((found) => {
        shown = found;
      })
      .catch((e: unknown) => notices.problem(e));
</script>

{#if one && f}
  <div class="page">
    <HeadBar>
      <p class="crumb">
        <a href="/estate">Estate</a> · {one.machine.site} · {one.machine.bay} ·
        <span class="mono">{one.machine.address}</span><Copy
          text={one.machine.address}
          what={`address of ${name}`}
        />
      </p>
      <h1>
        {f.trouble
          ? `The controller of ${name} was not read: ${f.trouble}`
          : `${name} is bare metal, power ${f.power?.toLowerCase() || 'unknown'}.`}
        {#if !f.trouble}<b>{f.memory_bytes ? size(f.memory_bytes) : 'memory not reported'}</b>, {threads}
          threads, {f.drives?.length
            ? `${count(f.drives.length, 'drive')} of ${size(raw)} raw`
            : 'drives not reported'}.{/if}
      </h1>
      <p class="quiet" class:old={age > 86400 || f.trouble} title={utc(f.read_at ?? 0)}>
        {f.read_at ? `read ${ago(age)}` : 'never updated'} · Redfish {f.redfish || '—'}{f.missing
          ?.length
          ? ` · not reported by the controller: ${f.missing.join(', ')}`
          : ''}
      </p>
      {#snippet acts()}
        <Button disabled={data.busy !== ''} onclick={() => void data.read([name])}
          >{data.busy.startsWith('reading') ? 'Refreshing …' : 'Refresh'}</Button
        >
      {/snippet}
    </HeadBar>
    <div class="body">
      <div class="draw" class:faded={age > 86400 || f.trouble}>
        <section>
          <h2>
            Chassis <span
              >{f.maker}
              {f.model} · serial {f.serial || '—'} · health {f.health || 'not reported'}</span
            >
          </h2>
          <div class="chassis">
            <div class="sockets">
              {#each f.processors ?? [] as p, i (i)}<div class="socket">
                  <b>{p.cores}</b> cores<br /><span class="quiet">{p.threads} threads</span><br
                  /><span class="quiet">{p.model}</span>
                </div>{/each}
            </div>
            <div class="bays">
              {#each f.drives ?? [] as d (d.name)}<div
                  class="drive"
                  class:worn={d.health && d.health !== 'OK'}
                  title={`${d.name}: ${size(d.size_bytes ?? 0)} ${d.kind} ${d.protocol}, serial ${d.serial}, ${d.health || 'health not reported'}`}
                >
                  <b>{size(d.size_bytes ?? 0)}</b><span>{d.kind} {d.protocol}</span><span
                    >{d.health && d.health !== 'OK' ? d.health : d.name}</span
                  >
                </div>{:else}<p class="quiet">Controller reports no drives.</p>{/each}
            </div>
          </div>
        </section>
        <div class="halves">
          <section>
            <h2>Network ports</h2>
            <ul>
              {#each f.nics ?? [] as n (n.name)}<li class="nic" class:down={n.link === false}>
                  <i></i><span><b>{n.name}</b> <span class="mono quiet">{n.mac}</span></span><span
                    class="mono"
                    >{n.link === false
                      ? 'no link'
                      : n.speed_mbit
                        ? `${n.speed_mbit / 1000} Gbit`
                        : 'link not reported'}</span
                  >
                </li>{:else}<li class="quiet">not reported</li>{/each}
            </ul>
          </section>
          <section>
            <h2>Boot and media</h2>
            <dl>
              <dt>Boots from</dt>
              <dd>
                {f.boot_enabled && f.boot_enabled !== 'Disabled'
                  ? `${f.boot_now}, ${f.boot_enabled.toLowerCase()}`
                  : 'firmware boot order'}
              </dd>
              <dt>Can boot from</dt>
              <dd>{f.boot_options?.join(', ') || 'not reported'}</dd>
              {#each f.media ?? [] as m (m.id)}<dt>{m.id}</dt>
                <dd>{m.kinds?.join(', ')}: {m.inserted ? m.image : 'empty'}</dd>{/each}
            </dl>
          </section>
        </div>
        <section>
          <h2>Firmware</h2>
          <ul>
            {#each f.firmware ?? [] as w (w.name)}<li class="pair">
                <span>{w.name}</span><span class="mono">{w.version}</span>
              </li>{:else}<li class="quiet">not reported</li>{/each}
          </ul>
        </section>
      </div>
      <aside aria-label="Ledger">
        <Section title="Power" aside={f.power ?? ''}
          >{#if request}<form
              class="own"
              onsubmit={(e) => {
                e.preventDefault();
                void go();
              }}
            >
              <p>
                {WORDS[request]}: whatever runs on {name}
                {request === 'On' ? 'starts' : 'stops'}.
              </p>
              <label
                >Type <b class="mono">{name}</b> to confirm
                <input class="mono" bind:value={typed} autocomplete="off" /></label
              >
              <div class="acts">
                <Button kind="danger" type="submit" disabled={typed !== name || data.busy !== ''}
                  >{data.busy === 'switching'
                    ? 'Waiting for the controller …'
                    : WORDS[request]}</Button
                ><Button
                  onclick={() => {
                    request = '';
                    typed = '';
                  }}>Cancel</Button
                >
              </div>
            </form>
          {:else}<div class="acts">
              {#each offered as k (k)}<Button
                  disabled={data.busy !== ''}
                  onclick={() => {
                    request = k;
                    typed = '';
                  }}>{WORDS[k]} …</Button
                >{/each}
            </div>{/if}</Section
        >
        {#if mine.length}<Section title="Readiness" aside={count(mine.length, 'rule')}
            ><ul>
              {#each mine as v, i (i)}<li class="fit">
                  <Weight severity={v.severity} /><span
                    >{v.message}{#if v.remedy}<span class="quiet remedy">{v.remedy}</span
                      >{/if}</span
                  >
                </li>{/each}
            </ul></Section
          >{/if}
        {#if f.changes?.length}<Section
            title="Changed"
            aside={data.view ? `since ${ago(data.view.now - (f.changed_since ?? 0))}` : ''}
            ><ul>
              {#each f.changes as c, i (i)}<li><b>{c.what}</b> {c.was} → {c.now}</li>{/each}
            </ul></Section
          >{/if}
        <Section title="Controller"
          ><dl>
            <dt>Login</dt>
            <dd>{one.machine.user}, keyring entry “{one.machine.credential}”</dd>
            <dt>Certificate</dt>
            <dd class="mono small">
              {one.fingerprint || 'never pinned'}{#if one.fingerprint}<Copy
                  text={one.fingerprint}
                  what={`certificate of ${name}`}
                />{/if}
            </dd>
          </dl>
          {#if f.trouble_code === 'certificate-changed' || !one.fingerprint}{#if shown}<p
                class="alarm"
              >
                It now presents a certificate for {shown.subject || 'nobody'}{shown.odd
                  ? `, which ${shown.odd}`
                  : ''}:
              </p>
              <p class="mono small">{shown.fingerprint}</p>
              <div class="acts">
                <Button
                  kind="danger"
                  onclick={() => {
                    shown = null;
                    void data.work('pinning', () => send('DELETE', `/estate/machines/${name}/pin`));
                  }}>Pin new certificate</Button
                >
              </div>{:else}<Button onclick={() => void look()}>Show the current certificate</Button
              >{/if}{/if}</Section
        >
        <div class="acts">
          {#if retiring}<Button
              kind="danger"
              onclick={() =>
                void data
                  .work('retiring', () => send('DELETE', `/estate/machines/${name}`))
                  .then((gone) => {
                    if (gone) router.go('/estate');
                    retiring = false;
                  })}>Take {name} out of the estate</Button
            ><Button
              onclick={() => {
                retiring = false;
              }}>Cancel</Button
            >{:else}<Button
              onclick={() => {
                retiring = true;
              }}>Remove …</Button
            >{/if}
        </div>
      </aside>
    </div>
  </div>
{:else if data.view}<div class="empty">
    <h1>The estate has no machine “{name}”.</h1>
    <a href="/estate">The estate</a>
  </div>{/if}

<style>
  .page {
    display: flex;
    flex-direction: column;
    height: 100%;
    padding: 0 20px;
    min-height: 0;
  }
  .crumb,
  .old {
    color: var(--caution);
    font-weight: 600;
  }
  .body {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 316px;
    flex: 1;
    min-height: 0;
  }
  .draw {
    overflow: auto;
    padding: 10px 18px 20px 0;
  }
  .faded {
    opacity: 0.75;
  }
  aside {
    border-left: 1px solid var(--line);
    padding: 10px 0 20px 18px;
    overflow: auto;
  }
  section {
    margin-bottom: 18px;
  }
  h2 {
    font-size: var(--text-m);
    font-weight: 600;
    margin-bottom: 6px;
  }
  h2 span {
    font-weight: 400;
    color: var(--muted);
    font-size: var(--text-s);
    margin-left: 10px;
  }
  .chassis {
    border: 1px solid var(--strong-line);
    background: var(--surface);
    padding: 12px;
    display: grid;
    gap: 12px;
  }
  .sockets {
    display: flex;
    gap: 12px;
  }
  .socket {
    border: 1px solid var(--strong-line);
    padding: 8px 14px;
    background: var(--sunk);
    font-size: var(--text-s);
    min-width: 150px;
  }
  .bays {
    display: flex;
    flex-wrap: wrap;
    gap: 6px;
  }
  .drive {
    border: 1px solid var(--strong-line);
    width: 82px;
    padding: 5px 7px;
    font-size: 11px;
    display: grid;
    background: var(--paper);
  }
  .drive b {
    font-size: var(--text-s);
  }
  .drive.worn {
    border: 2px solid var(--caution);
    color: var(--caution);
  }
  .halves {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 26px;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
    font-size: var(--text-s);
  }
  .nic {
    display: grid;
    grid-template-columns: 14px 1fr auto;
    gap: 8px;
    padding: 2px 0;
    align-items: center;
  }
  .nic i {
    width: 12px;
    height: 10px;
    background: var(--soft);
  }
  .nic.down i {
    background: none;
    border: 1px dashed var(--blocker);
  }
  .pair {
    display: flex;
    justify-content: space-between;
    max-width: 320px;
    border-bottom: 1px solid var(--line);
    padding: 2px 0;
  }
  dl {
    display: grid;
    grid-template-columns: 100px 1fr;
    gap: 3px 10px;
    margin: 0 0 8px;
    font-size: var(--text-s);
  }
  dt {
    color: var(--muted);
  }
  dd {
    margin: 0;
    overflow-wrap: anywhere;
  }
  .small {
    font-size: 11px;
    overflow-wrap: anywhere;
  }
  .fit {
    display: flex;
    gap: 8px;
    padding: 2px 0;
  }
  .remedy {
    display: block;
  }
  .alarm {
    color: var(--blocker);
    font-size: var(--text-s);
  }
  .own {
    display: grid;
    gap: 6px;
    font-size: var(--text-s);
  }
  .own label {
    display: grid;
    gap: 2px;
  }
  .own input {
    padding: 4px 8px;
    border: 1px solid var(--strong-line);
    background: var(--surface);
    border-radius: var(--radius);
    color: var(--ink);
  }
  .empty {
    padding: 60px 20px;
  }
</style>
