<script lang="ts">
  /** Everything that can be deployed on: the wall under several readings, and below it facts, fitness, networks or groundwork. */
  import { get } from '../../lib/api/client';
  import type { Action, GroundLine } from '../../lib/api/types';
  import { ago, clock, count, gib, size, utc } from '../../lib/format';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Later from '../../lib/ui/Later.svelte';
  import { parts } from './parts';
  import Weight from '../../lib/ui/Weight.svelte';
  import Section from '../ledger/Section.svelte';
  import { EstateData } from './estate.svelte';
  import EstateWall from './EstateWall.svelte';
  import Fitness from './Fitness.svelte';
  import RunLimits from './RunLimits.svelte';
  import { READINGS, type Reading } from './readings';

  const data = new EstateData();
  let estate = $derived(data.view),
    fitness = $derived(data.fitness);
  let adding = $state(false),
    preparing = $state<{ actions: Action[]; hosts: string[] } | null>(null);
  let filter = $state(''),
    tall = $state(innerHeight),
    ground = $state.raw<GroundLine[]>([]);
  let place = $derived(router.parts[1] ?? ''),
    name = $derived(router.parts[2] ?? '');
  const SEE: [string, string][] = [
    ['facts', 'facts'],
    ['fitness', 'readiness'],
    ['networks', 'networks'],
    ['pools', 'pools'],
    ['drives', 'drives'],
    ['groundwork', 'preparation'],
    ['limits', 'run limits'],
  ];
  let see = $derived(
    SEE.some(([s]) => s === router.query.get('see')) ? router.query.get('see')! : 'facts',
  );
  let reading = $derived(
    (READINGS.find(([r]) => r === router.query.get('read'))?.[0] ??
      (see === 'fitness' ? 'findings' : 'memory')) as Reading,
  );
  let at = $derived(router.query.get('host') ?? '');
  let chosen = $derived(estate?.hosts.find((h) => h.name === at)),
    picked = $derived(estate?.machines.find((m) => m.machine.name === at));
  const fits = (...words: string[]) =>
    filter === '' || words.some((t) => t.toLowerCase().includes(filter.toLowerCase()));
  let shown = $derived(
    estate?.hosts.filter((h) =>
      fits(
        h.name,
        h.bay,
        h.site,
        h.address,
        h.note ?? '',
        ...(h.tags ?? []),
        ...h.networks,
        ...h.bedrock.map((b) => b.name),
      ),
    ) ?? [],
  );
  let metal = $derived(
    estate?.machines.filter((m) =>
      fits(
        m.machine.name,
        m.machine.bay,
        m.machine.site,
        m.machine.address,
        m.facts.model ?? '',
        ...(m.machine.tags ?? []),
      ),
    ) ?? [],
  );
  let nets = $derived(estate?.networks.map((n) => n.name) ?? []);
  let bad = $derived([
    ...(estate?.hosts.filter((h) => h.trouble).map((h) => h.name) ?? []),
    ...(estate?.machines.filter((m) => m.facts.trouble).map((m) => m.machine.name) ?? []),
  ]);
  let room = $derived(
    estate?.hosts.reduce(
      (sum, h) =>
        sum + Math.max(0, h.limit_bytes - h.bedrock.reduce((a, b) => a + b.memory_bytes, 0)),
      0,
    ) ?? 0,
  );
  let sites = $derived(
    new Set([
      ...(estate?.hosts.map((h) => h.site) ?? []),
      ...(estate?.machines.map((m) => m.machine.site) ?? []),
    ]).size,
  );
  let heavy = $derived(fitness?.violations.filter((v) => v.severity !== 'note') ?? []);
  let hurt = $derived(new Set(heavy.map((v) => v.host)).size);
  let rows = $derived([
    ...shown.map((h) => ({
      name: h.name,
      bay: h.bay,
      key: `${h.site} · ${h.bay}`,
      machine: false,
    })),
    ...metal.map((m) => ({
      name: m.machine.name,
      bay: m.machine.bay,
      key: `${m.machine.site} · ${m.machine.bay}`,
      machine: true,
    })),
  ]);
  let mine = $derived(fitness?.violations.filter((v) => v.host === at) ?? []);
  let login = $derived(
    [
      ...(estate?.hosts.reduce(
        (all, h) => all.set(h.credential ?? '', (all.get(h.credential ?? '') ?? 0) + 1),
        new Map<string, number>(),
      ) ?? []),
    ].sort((a, b) => b[1] - a[1])[0]?.[0] ?? '',
  );
  let empty = $derived(estate !== null && !estate.hosts.length && !estate.machines.length);

  $effect(() => {
    void place;
    void data.load();
  }); // whoever comes back from a page of one thing sees what became of it
  $effect(() => {
    if (see === 'groundwork' && !place)
      void get('/groundwork')
        .then((found) => {
          ground = found;
        })
        .catch(() => undefined);
  });
  function go(change: Record<string, string>) {
    const query = new URLSearchParams(router.query);
    for (const [k, v] of Object.entries(change))
      if (v) query.set(k, v);
      else query.delete(k);
    router.go(`/estate?${query.toString()}`, true);
  }
  const choose = (n: string) => go({ host: n === at ? '' : n });
  const open = (kind: 'host' | 'machine', n: string) => router.go(`/estate/${kind}s/${n}`);
  const prepare = (actions: Action[], hosts: string[]) => {
    preparing = { actions, hosts };
  };
  const WORDS: Record<string, string> = {
    running: 'running',
    trouble: 'stuck',
    done: 'done',
    undone: 'rolled back',
    held: 'on hold',
    undoing: 'rolling back',
    unproved: 'done, not all refreshed',
  };
</script>

<svelte:window bind:innerHeight={tall} />
{#if place === 'hosts' && name}{#key name}<Later
      load={parts.hostPage}
      {name}
      {data}
      onprepare={prepare}
    />{/key}
{:else if place === 'machines' && name}{#key name}<Later
      load={parts.machinePage}
      {name}
      {data}
    />{/key}
{:else if place === 'groundwork' && name}{#key name}<Later
      load={parts.groundPage}
      id={name}
    />{/key}
{:else if empty}
  <div class="empty">
    <h1>No hosts yet.</h1>
    <p class="quiet">
      Paste or load a list of hypervisor hosts and management controllers, or scan a range of
      addresses; check them, compare their keys, and add those whose login works. Networks and pools
      can be added on their pages, or come from a file: <code class="mono"
        >nimble-stone estate load FILE</code
      >.
    </p>
    <p class="first">
      <Button
        kind="main"
        onclick={() => {
          adding = true;
        }}>Add hosts and machines</Button
      >
    </p>
  </div>
{:else if estate}
  <div class="page">
    <div class="bar">
      <div>
        <h1>
          {count(estate.hosts.length, 'host')}{estate.machines.length
            ? ` and ${count(estate.machines.length, 'machine')}`
            : ''} in {count(sites, 'site')}.
          <b
            >{bad.length
              ? `${bad.slice(0, 3).join(', ')} ${bad.length === 1 ? 'is' : 'are'} unreachable`
              : 'All reachable'}</b
          >{hurt ? `, ${hurt} ${hurt === 1 ? 'has' : 'have'} problems` : ''}; {size(room)} memory available.
        </h1>
      </div>
      <div class="doors">
        <Button
          onclick={() => {
            adding = true;
          }}>Add …</Button
        ><Button onclick={() => prepare([], chosen ? [chosen.name] : [])}>Prepare …</Button><Button
          kind="main"
          disabled={data.busy !== ''}
          onclick={() => void data.read()}
          >{data.busy.startsWith('reading')
            ? `${data.busy.replace('r', 'R')} …`
            : 'Refresh all'}</Button
        >
      </div>
    </div>
    <div class="body">
      <div class="left">
        <div class="switch" role="group" aria-label="What the wall shows">
          {#each READINGS as [r, label] (r)}<button
              aria-pressed={reading === r}
              onclick={() => go({ read: r })}>{label}</button
            >{/each}<span class="legend quiet"
            >{reading === 'memory'
              ? 'hatched: allocated to VMs · dotted line: allocatable · dotted frame: bare metal'
              : reading === 'vcpu'
                ? 'hatched: allocated to VMs · dotted line: threads'
                : reading === 'bytes'
                  ? 'hatched: used · dashed frame: shared, counted once'
                  : reading === 'age'
                    ? 'dotted line: a day'
                    : 'full: blocker · frame: caution · pale: note'}</span
          >
        </div>
        <EstateWall
          estate={{ hosts: shown, machines: metal, now: estate.now }}
          {fitness}
          {reading}
          height={Math.round(Math.max(190, Math.min(380, tall * 0.33)))}
          chosen={at}
          onchoose={(_, n) => choose(n)}
        />
        <div class="tools">
          <input bind:value={filter} placeholder="Filter by typing" aria-label="Filter" />
          <span class="see" role="group" aria-label="What is shown below"
            >{#each SEE as [s, label] (s)}<button
                aria-pressed={see === s}
                onclick={() => go({ see: s, read: '' })}
                >{label}{s === 'fitness' && hurt ? `: ${hurt} to fix` : ''}</button
              >{/each}</span
          >
        </div>
        <div class="table">
          {#if see === 'fitness' && fitness}<Fitness
              {fitness}
              {rows}
              chosen={at}
              onchoose={(r) => choose(r.name)}
              onrepair={(actions) => prepare(actions, [])}
              onjudged={(found) => data.judged(found)}
            />
          {:else if see === 'networks'}<Later
              load={parts.networks}
              {estate}
              hosts={shown}
              onchoose={(n) => open('host', n)}
            />
          {:else if see === 'drives'}<div class="pools">
              <Later
                load={parts.drives}
                bays={[
                  ...new Set([
                    ...estate.machines.map((m) => m.machine.bay),
                    ...estate.hosts.map((h) => h.bay),
                  ]),
                ]}
              />
            </div>
          {:else if see === 'limits'}<div class="pools"><RunLimits /></div>
          {:else if see === 'pools'}<div class="pools">
              <Later load={parts.pools} {filter} networks={estate.networks} />
            </div>
          {:else if see === 'groundwork'}
            {#if !ground.length}<p class="quiet none">
                No preparation runs. <Button kind="link" onclick={() => prepare([], [])}
                  >Prepare hosts</Button
                >: keys, names, networks, datastores, disks; or fix what the readiness matrix shows.
              </p>
            {:else}<table>
                <thead
                  ><tr
                    ><th>Preparation run</th><th>State</th><th>Hosts</th><th>What</th><th
                      >Started</th
                    ></tr
                  ></thead
                ><tbody
                  >{#each ground as g (g.id)}<tr
                      ><th scope="row"><a href={`/estate/groundwork/${g.id}`}>{g.id}</a></th><td
                        >{WORDS[g.state] ?? g.state}</td
                      ><td class="cut" title={g.hosts}>{g.hosts}</td><td class="cut" title={g.what}
                        >{g.what}</td
                      ><td class="quiet" title={utc(g.started_at)}>{clock(g.started_at)}</td></tr
                    >{/each}</tbody
                >
              </table>{/if}
          {:else}<table>
              <thead
                ><tr
                  ><th>Host</th><th>Bay</th><th>Address</th><th
                    class="r"
                    title="Below the limit and not used by running VMs; the hypervisor keeps the rest"
                    >Memory free</th
                  ><th class="r">Threads</th><th>VMs</th>{#each nets as n (n)}<th class="net"
                      >{n}</th
                    >{/each}<th>Datastores free</th><th>Updated</th></tr
                ></thead
              >
              <tbody
                >{#each shown as h (h.name)}
                  <tr class:chosen={at === h.name} class:bad={h.trouble}
                    ><th scope="row"
                      ><button
                        onclick={() => choose(h.name)}
                        ondblclick={() => open('host', h.name)}>{h.name}</button
                      ></th
                    ><td title={h.site}>{h.bay}</td><td class="mono">{h.address}</td>
                    <td class="mono r"
                      >{gib(
                        Math.max(
                          0,
                          h.limit_bytes - h.bedrock.reduce((a, b) => a + b.memory_bytes, 0),
                        ),
                      )} of {gib(h.limit_bytes)}</td
                    ><td class="mono r">{h.threads}</td><td
                      >{h.bedrock.length}{h.bedrock.some((b) => b.ours)
                        ? `, ${h.bedrock.filter((b) => b.ours).length} ours`
                        : ''}</td
                    >
                    {#each nets as n (n)}<td class="net"
                        >{#if h.networks.includes(n)}<svg
                            width="11"
                            height="11"
                            role="img"
                            aria-label="carried"><rect x="1" y="1" width="9" height="9" /></svg
                          >{:else}<svg width="11" height="11" role="img" aria-label="not carried"
                            ><path d="M2 5.500h7" /></svg
                          >{/if}</td
                      >{/each}
                    <td class="mono">{h.stores.map((s) => size(s.free_bytes)).join(' · ')}</td><td
                      class="quiet"
                      title={utc(h.read_at)}
                      >{h.trouble ? 'unreachable' : ago(estate!.now - h.read_at)}</td
                    ></tr
                  >
                {/each}</tbody
              >
            </table>
            {#if metal.length}<table class="metal">
                <thead
                  ><tr
                    ><th>Machine</th><th>Bay</th><th>Controller</th><th>Model</th><th class="r"
                      >Memory</th
                    ><th class="r">Threads</th><th>Drives</th><th>Power</th><th>Health</th><th
                      >Updated</th
                    ></tr
                  ></thead
                >
                <tbody
                  >{#each metal as m (m.machine.name)}<tr
                      class:chosen={at === m.machine.name}
                      class:bad={m.facts.trouble}
                      ><th scope="row"
                        ><button
                          onclick={() => choose(m.machine.name)}
                          ondblclick={() => open('machine', m.machine.name)}
                          >{m.machine.name}</button
                        ></th
                      ><td title={m.machine.site}>{m.machine.bay}</td><td class="mono"
                        >{m.machine.address}</td
                      ><td>{m.facts.model || '—'}</td><td class="mono r"
                        >{m.facts.memory_bytes ? size(m.facts.memory_bytes) : 'not reported'}</td
                      ><td class="mono r"
                        >{m.facts.processors?.reduce((a, p) => a + (p.threads ?? 0), 0) || '—'}</td
                      ><td
                        >{m.facts.drives?.length
                          ? `${m.facts.drives.length} × ${size(m.facts.drives[0]!.size_bytes ?? 0)}`
                          : 'not reported'}</td
                      ><td>{m.facts.power || '—'}</td><td>{m.facts.health || 'not reported'}</td><td
                        class="quiet"
                        title={utc(m.facts.read_at ?? 0)}
                        >{m.facts.trouble
                          ? 'unreachable'
                          : ago(estate!.now - (m.facts.read_at ?? 0))}</td
                      ></tr
                    >{/each}</tbody
                >
              </table>{/if}
          {/if}
        </div>
      </div>
      <aside aria-label="Details">
        {#if chosen}
          <Section title={chosen.name} aside={chosen.address}>
            {#if chosen.trouble}<p class="alarm">{chosen.trouble}</p>{/if}
            <dl>
              <dt>Hypervisor</dt>
              <dd>{chosen.hypervisor || '—'}</dd>
              <dt>CPU</dt>
              <dd>{chosen.cpu_model}, {chosen.threads} threads</dd>
              <dt>Networks</dt>
              <dd>{chosen.networks.join(', ') || 'nothing'}</dd>
              {#if chosen.note}<dt>Note</dt>
                <dd>{chosen.note}</dd>{/if}
            </dl>
            <div class="acts">
              <a class="open" href={`/estate/hosts/${chosen.name}`}>Open {chosen.name}</a><Button
                disabled={data.busy !== ''}
                onclick={() => void data.read([chosen!.name])}>Read {chosen.name}</Button
              >
            </div>
          </Section>
        {:else if picked}
          <Section title={picked.machine.name} aside={picked.machine.address}>
            {#if picked.facts.trouble}<p class="alarm">{picked.facts.trouble}</p>{/if}
            <dl>
              <dt>Bare metal</dt>
              <dd>{picked.facts.maker} {picked.facts.model}</dd>
              <dt>Power</dt>
              <dd>{picked.facts.power || 'not reported'}</dd>
              <dt>Drives</dt>
              <dd>
                {picked.facts.drives?.length
                  ? size(picked.facts.drives.reduce((a, d) => a + (d.size_bytes ?? 0), 0)) + ' raw'
                  : 'not reported'}
              </dd>
            </dl>
            <div class="acts">
              <a class="open" href={`/estate/machines/${picked.machine.name}`}
                >Open {picked.machine.name}</a
              ><Button
                disabled={data.busy !== ''}
                onclick={() => void data.read([picked!.machine.name])}
                >Read {picked.machine.name}</Button
              >
            </div>
          </Section>
        {:else}<p class="quiet choose">Select a host or machine.</p>{/if}
        {#if at && mine.length}<Section title="Readiness" aside={count(mine.length, 'rule')}
            ><ul class="fit">
              {#each mine as v, i (i)}<li>
                  <Weight severity={v.severity} /><span
                    >{v.message}{#if v.remedy}<span class="quiet remedy"
                        >{#if v.action}<Button kind="link" onclick={() => prepare([v.action!], [])}
                            >{v.remedy}</Button
                          >{:else}{v.remedy}{/if}</span
                      >{/if}</span
                  >
                </li>{/each}
            </ul></Section
          >{/if}
        {#if chosen}
          <Section title="VMs" aside={count(chosen.bedrock.length, 'guest')}
            ><ul>
              {#each chosen.bedrock as b (b.name)}<li>
                  <span>{b.name}{b.ours ? '(created here)' : ''}</span><span class="mono"
                    >{size(b.memory_bytes)}</span
                  >
                </li>{/each}
            </ul></Section
          >
          <Section title="Datastores" aside="free of all"
            ><ul>
              {#each chosen.stores as s (s.name)}<li title={s.shared}>
                  <span>{s.name}{s.shared ? ', shared' : ''}</span><span class="mono"
                    >{size(s.free_bytes)} of {size(s.capacity_bytes)}</span
                  >
                </li>{/each}
            </ul></Section
          >
        {:else if !picked}
          <Section title="Networks" aside={estate.networks.length ? 'gateway' : ''}
            >{#if !estate.networks.length}<p class="quiet choose">
                No networks described. They come from an estate file: <code class="mono"
                  >nimble-stone estate load FILE</code
                >.
              </p>{/if}
            <ul>
              {#each estate.networks as n (n.name)}<li>
                  <span>{n.name} <span class="mono quiet">{n.subnet}</span></span><span class="mono"
                    >{n.gateway}</span
                  >
                </li>{/each}
            </ul></Section
          >
          <Section title="Pools"
            >{#if !estate.pools.length}<p class="quiet choose">
                No pools. A pool assigns addresses of a network.
              </p>{/if}
            <ul>
              {#each estate.pools as p (p.name)}<li>
                  <span>{p.name}</span><span class="mono"
                    >{p.first} … {p.last.split('.').slice(2).join('.')}</span
                  >
                </li>{/each}
            </ul></Section
          >
        {/if}
      </aside>
    </div>
  </div>
{/if}
{#if adding && estate}<Later
    load={parts.addHosts}
    {login}
    bays={[
      ...new Set([...estate.hosts.map((h) => h.bay), ...estate.machines.map((m) => m.machine.bay)]),
    ]}
    sites={[...new Set(estate.hosts.map((h) => h.site))]}
    onadded={(view) => {
      void data.take(view);
    }}
    onclose={() => {
      adding = false;
    }}
  />{/if}
{#if preparing && estate}<Later
    load={parts.prepare}
    {estate}
    remedies={preparing.actions}
    hosts={preparing.hosts}
    onclose={() => {
      preparing = null;
    }}
  />{/if}

<style>
  .pools {
    overflow: auto;
    min-height: 0;
    flex: 1;
  }
  .page {
    display: flex;
    flex-direction: column;
    height: 100%;
    padding: 0 20px;
    min-height: 0;
  }
  .bar {
    display: flex;
    justify-content: space-between;
    gap: 28px;
    align-items: flex-start;
    padding: 10px 0 8px;
    border-bottom: 1px solid var(--line);
  }
  h1 {
    font-size: var(--text-l);
  }
  b {
    font-weight: 600;
  }
  .body {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 316px;
    flex: 1;
    min-height: 0;
  }
  .left {
    display: flex;
    flex-direction: column;
    min-height: 0;
    min-width: 0;
    padding-right: 18px;
  }
  aside {
    border-left: 1px solid var(--line);
    padding: 10px 0 20px 18px;
    overflow: auto;
  }
  .doors {
    display: flex;
    gap: 8px;
    align-items: center;
  }
  .first {
    margin-top: 14px;
  }
  .open {
    font-weight: 600;
    padding: 4px 0;
  }
  .switch {
    display: flex;
    align-items: baseline;
    padding: 8px 0 4px;
    font-size: var(--text-s);
    flex: none;
  }
  .switch button,
  .see button {
    border: 0;
    background: none;
    padding: 2px 0;
    margin-right: 14px;
    cursor: pointer;
    color: var(--muted);
    border-bottom: 2px solid transparent;
  }
  [aria-pressed='true'] {
    color: var(--ink) !important;
    border-color: var(--ink) !important;
  }
  .legend {
    margin-left: auto;
    font-size: var(--text-xs);
  }
  .see {
    margin-left: 18px;
    font-size: var(--text-s);
  }
  .fit li {
    justify-content: flex-start !important;
    gap: 8px;
  }
  .fit :global(svg) {
    margin-top: 3px;
  }
  .remedy {
    display: block;
  }
  .tools {
    padding: 4px 0;
    flex: none;
  }
  .tools input {
    border: 0;
    border-bottom: 1px solid var(--strong-line);
    background: none;
    padding: 2px 4px;
    font-size: var(--text-s);
  }
  .table {
    overflow: auto;
    flex: 1;
    min-height: 0;
    border-top: 1px solid var(--strong-line);
  }
  table {
    border-collapse: separate;
    border-spacing: 0;
    width: 100%;
  }
  .metal {
    margin-top: 14px;
  }
  .none {
    padding: 14px 8px;
  }
  .cut {
    max-width: 240px;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  thead th {
    position: sticky;
    top: 0;
    background: var(--sunk);
    color: var(--soft);
    font-weight: 400;
    font-size: var(--text-s);
    text-align: left;
    padding: 4px 6px;
    white-space: nowrap;
  }
  td,
  tbody th {
    padding: 4px 6px;
    border-bottom: 1px solid var(--line);
    white-space: nowrap;
    text-align: left;
    font-weight: 400;
  }
  .r {
    text-align: right !important;
  }
  .net {
    text-align: center !important;
  }
  tbody button,
  tbody th a {
    border: 0;
    background: none;
    padding: 0;
    font-weight: 600;
    cursor: pointer;
  }
  tbody button:hover {
    color: var(--accent);
  }
  .chosen > * {
    background: var(--accent-wash);
  }
  .bad td:last-child,
  .alarm {
    color: var(--blocker);
  }
  rect {
    fill: var(--soft);
  }
  path {
    stroke: var(--muted);
    stroke-width: 1.5;
  }
  dl {
    display: grid;
    grid-template-columns: 78px 1fr;
    gap: 4px 10px;
    margin: 0;
    font-size: var(--text-s);
  }
  dt {
    color: var(--muted);
  }
  dd {
    margin: 0;
    overflow-wrap: anywhere;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
    font-size: var(--text-s);
  }
  li {
    display: flex;
    justify-content: space-between;
    gap: 10px;
    padding: 1px 0;
  }
  .acts {
    display: flex;
    gap: 12px;
    margin-top: 10px;
    align-items: center;
  }
  .choose {
    margin-bottom: 18px;
  }
  .empty {
    padding: 60px 20px;
    max-width: 860px;
  }
</style>
