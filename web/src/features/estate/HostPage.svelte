<script lang="ts">
  /** One host, drawn as what it is: its compute, its interfaces to networks, its datastores, its disks, its guests. */
  import { get, send } from '../../lib/api/client';
  import type { Action, OneHost } from '../../lib/api/types';
  import { ago, count, middle, size, span, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import Section from '../ledger/Section.svelte';
  import type { EstateData } from './estate.svelte';
  import { wiring, WIDE } from './wires';
  import Copy from '../../lib/ui/Copy.svelte';

  interface Props {
    name: string;
    data: EstateData;
    onprepare: (actions: Action[], hosts: string[]) => void;
  }
  let { name, data, onprepare }: Props = $props();
  let one = $state.raw<OneHost | null>(null),
    retiring = $state(false),
    called = $state(''),
    bay = $state(''),
    site = $state(''),
    tags = $state(''),
    note = $state(''),
    width = $state(800);
  // What was typed stays when the facts are read anew.
  $effect(() => {
    void data.view;
    const wanted = name;
    get(`/estate/hosts/${wanted}`)
      .then((found) => {
        if (wanted !== name) return;
        const old = one?.host;
        if (!old || called === old.name) called = found.host.name;
        if (!old || bay === old.bay) bay = found.host.bay;
        if (!old || site === old.site) site = found.host.site;
        if (!old || tags === (old.tags ?? []).join(' ')) tags = (found.host.tags ?? []).join(' ');
        if (!old || note === (old.note ?? '')) note = found.host.note ?? '';
        one = found;
      })
      .catch((e: unknown) => notices.problem(e));
  });
  let f = $derived(one?.facts);
  let net = $derived(f ? wiring(f, Math.max(420, width)) : null);
  let age = $derived(one && f?.read_at ? one.now - f.read_at : 0);
  let used = $derived(
    f?.guests?.filter((g) => g.running).reduce((sum, g) => sum + (g.memory_bytes ?? 0), 0) ?? 0,
  );
  let sockets = $derived(
    f?.sockets
      ? Array.from({ length: f.sockets }, (_, i) => ({
          i,
          cores: Math.max(1, Math.round((f.cores ?? 0) / f.sockets!)),
        }))
      : [],
  );
  let heavy = $derived(one?.violations.filter((v) => v.severity !== 'note') ?? []);
  let mendable = $derived(one?.violations.filter((v) => v.action).map((v) => v.action!) ?? []);
  let users = $derived(
    (store: string) =>
      f?.guests?.filter((g) => g.disks?.some((d) => d.startsWith(`${store}/`))) ?? [],
  );
  let care = $derived((store: { name: string; shared?: string }) =>
    one?.cares.find((c) => c.place === (store.shared || `${name}/${store.name}`)),
  );
  const change = async (body: object, to = name) => {
    if (await data.work('changing', () => send('PATCH', `/estate/hosts/${name}`, body)))
      router.go(`/estate/hosts/${to}`, true);
  };
  let sentence = $derived(
    !f
      ? ''
      : f.trouble
        ? `${name} is unreachable: ${f.trouble}`
        : heavy.length
          ? `${name} breaks ${count(heavy.length, 'rule')}.`
          : `${name} is ready.`,
  );
  let notes = $derived((one?.violations.length ?? 0) - heavy.length);
  let room = $derived(one?.room_bytes ?? 0);
</script>

{#if one && f}
  <div class="page">
    <div class="bar">
      <div>
        <p class="crumb">
          <a href="/estate">Estate</a> · {one.host.site} · {one.host.bay} ·
          <span class="mono">{one.host.address}</span><Copy
            text={one.host.address}
            what={`address of ${name}`}
          />
        </p>
        <h1>
          {sentence}
          {#if !f.trouble}<b
              title="Below the limit and not used by running VMs; the hypervisor keeps the rest"
              >{size(room)}</b
            >
            memory available for VMs, {f.threads} threads.{/if}
        </h1>
        <p class:old={age > 86400 || f.trouble} class="quiet" title={utc(f.read_at ?? 0)}>
          {f.read_at ? `read ${ago(age)}` : 'never updated'}{f.trouble && f.tried_at
            ? `, tried ${ago(one.now - f.tried_at)}; what follows is the last that is known`
            : ''}{f.uptime_s
            ? ` · up ${f.uptime_s > 172800 ? `${Math.floor(f.uptime_s / 86400)} days` : span(f.uptime_s)}`
            : ''}{f.load ? ` · load ${f.load.toFixed(2)}` : ''}
        </p>
      </div>
      <div class="doors">
        {#if mendable.length}<Button kind="main" onclick={() => onprepare(mendable, [name])}
            >Fix {count(mendable.length, 'rule')}</Button
          >{/if}<Button onclick={() => onprepare([], [name])}>Prepare …</Button><Button
          disabled={data.busy !== ''}
          onclick={() => void data.read([name])}
          >{data.busy.startsWith('reading') ? 'Refreshing …' : 'Refresh'}</Button
        >
      </div>
    </div>
    <div class="body">
      <div class="draw" class:faded={age > 86400 || f.trouble}>
        <section>
          <h2>
            Compute <span
              >{f.cpu_model} · {f.sockets} × {sockets[0]?.cores ?? 0} cores, {f.threads} threads · {f.virtualization ||
                'virtualization not reported'} · {f.domain_type === 'kvm'
                ? 'VMs run under KVM'
                : 'VMs run in emulation'}</span
            >
          </h2>
          <div class="sockets">
            {#each sockets as s (s.i)}<div class="socket">
                <div class="cores">
                  {#each Array.from({ length: Math.min(96, s.cores) }, (_, c) => c) as c (c)}<i
                    ></i>{/each}
                </div>
                {#if f.numa?.[s.i]}<p class="mono">
                    {size(f.numa[s.i]!.memory_bytes)}, {f.numa[s.i]!.threads} threads
                  </p>{/if}
              </div>{/each}
            <div class="memory">
              <div class="strip">
                {#each f.guests?.filter((g) => g.running) ?? [] as g (g.name)}<span
                    class="guest"
                    class:ours={g.mark}
                    style:flex-grow={(g.memory_bytes ?? 0) / 2 ** 28}
                    title={`${g.name}: ${size(g.memory_bytes ?? 0)}, ${g.vcpu} vCPU`}>{g.name}</span
                  >{/each}<span
                  class="free"
                  style:flex-grow={Math.max(0, f.memory_bytes! - used) / 2 ** 28}
                ></span>
              </div>
              <p class="mono">
                {size(used)} of {size(f.memory_bytes ?? 0)} allocated to VMs, {size(room)} more available{f.swap_used_bytes
                  ? ` · ${size(f.swap_used_bytes)} swapped`
                  : ''} · {size(f.memory_free_bytes ?? 0)} free as reported by the host
              </p>
            </div>
          </div>
        </section>
        <section bind:clientWidth={width}>
          <h2>Interfaces to networks</h2>
          {#if net && net.spots.length}<svg
              width={net.width}
              height={net.height}
              role="img"
              aria-label="Interfaces, bridges and networks"
              >{#each net.layers as l (l.x)}<text class="layer" x={l.x} y="11">{l.name}</text
                >{/each}
              {#each net.wires as w, i (i)}<path
                  class="wire"
                  class:bad={w.bad}
                  d={`M${w.from.x + WIDE} ${w.from.y + 13}C${(w.from.x + WIDE + w.to.x) / 2} ${w.from.y + 13} ${(w.from.x + WIDE + w.to.x) / 2} ${w.to.y + 13} ${w.to.x} ${w.to.y + 13}`}
                />{/each}
              {#each net.spots as s (s.id)}<g class={s.kind} class:down={!s.link}
                  ><title>{`${s.label} ${s.note}`}</title><rect
                    x={s.x}
                    y={s.y}
                    width={WIDE}
                    height="27"
                  /><text x={s.x + 7} y={s.y + (s.note ? 11.5 : 17)}>{middle(s.label, 17)}</text
                  >{#if s.note}<text class="note" x={s.x + 7} y={s.y + 22.5}
                      >{middle(s.note, 19)}</text
                    >{/if}</g
                >{/each}</svg
            >
          {:else}<p class="quiet">Interfaces not reported.</p>{/if}
          {#each f.paths?.filter((p) => !p.passes) ?? [] as p (`${p.network} ${p.peer}`)}<p
              class="alarm"
            >
              Packets of {p.mtu} bytes do not reach {p.peer}{p.network ? ` over ${p.network}` : ''}: {p.words}
            </p>{/each}
        </section>
        <div class="halves">
          <section>
            <h2>Datastores</h2>
            {#each f.datastores ?? [] as s (s.name)}{@const c = care(s)}
              <div class="store" class:asleep={!s.active}>
                <p>
                  <b>{s.name}</b>
                  <span class="quiet"
                    >{s.shared || s.path}{c?.protection ? ` · ${c.protection}` : ''}</span
                  >
                </p>
                <div class="tank" title={`${size(s.free_bytes)} of ${size(s.capacity_bytes)} free`}>
                  <i style:width={`${100 - (100 * s.free_bytes) / Math.max(1, s.capacity_bytes)}%`}
                  ></i><em style:left={`${100 * (c?.watermark ?? 0.85)}%`}></em>
                </div>
                <p class="mono">
                  {s.active
                    ? `${size(s.free_bytes)} free of ${size(s.capacity_bytes)}`
                    : 'not started'}{users(s.name).length
                    ? ` · ${count(users(s.name).length, 'VM')}`
                    : ''}
                </p>
              </div>{:else}<p class="quiet">
                No datastores. <Button kind="link" onclick={() => onprepare([], [name])}
                  >Add one</Button
                >
              </p>{/each}
          </section>
          <section>
            <h2>Disks</h2>
            <ul class="disks">
              {#each f.disks ?? [] as d (d.path)}<li data-use={d.use}>
                  <svg width="26" height="18" aria-hidden="true"
                    ><rect x="1" y="2" width="24" height="14" rx="2" /><path
                      d={d.rotational
                        ? 'M8 9a5 5 0 1 0 10 0a5 5 0 1 0-10 0M13 9h.500'
                        : 'M5 6h4v6H5zM11 6h4v6h-4zM17 6h4v6h-4z'}
                    /></svg
                  ><span
                    ><b class="mono">{d.path}</b>
                    {size(d.size_bytes)} <span class="quiet">{d.model} {d.bus}</span><br /><span
                      class="use">{d.use === 'free' ? 'free' : d.why || d.use}</span
                    ></span
                  >
                </li>{:else}<p class="quiet">
                  Disks not reported{f.unread?.length ? `: ${f.unread[0]}` : ''}.
                </p>{/each}
            </ul>
          </section>
        </div>
        <section>
          <h2>VMs <span>{count(f.guests?.length ?? 0, 'VM')}</span></h2>
          <table>
            <tbody
              >{#each f.guests ?? [] as g (g.name)}<tr
                  ><th scope="row">{g.name}</th><td>{g.running ? 'runs' : 'stopped'}</td><td
                    class="mono">{size(g.memory_bytes ?? 0)}, {g.vcpu} vCPU</td
                  ><td>{g.networks?.join(', ')}</td><td class="quiet mono">{g.disks?.join(', ')}</td
                  ><td
                    >{#if g.mark}{#if g.mark.plan}<a
                          href={`/plans/${g.mark.plan}/run?run=${g.mark.run}`}
                          >created here, node {g.mark.plan}</a
                        >{:else}created here, run {g.mark.run}{/if}{/if}</td
                  ></tr
                >{/each}</tbody
            >
          </table>
        </section>
      </div>
      <aside aria-label="Ledger">
        {#if one.violations.length}<Section
            title="Readiness"
            aside={`${heavy.length} broken${notes ? `, ${count(notes, 'note')}` : ''}`}
            ><ul class="fit">
              {#each one.violations as v, i (i)}<li>
                  <Weight severity={v.severity} /><span
                    >{v.message}{#if v.remedy}<span class="quiet remedy"
                        >{#if v.action}<Button
                            kind="link"
                            onclick={() => onprepare([v.action!], [name])}>{v.remedy}</Button
                          >{:else}{v.remedy}{/if}</span
                      >{/if}</span
                  >
                </li>{/each}
            </ul></Section
          >{/if}
        {#if f.changes?.length}<Section
            title="Changed"
            aside={`since ${ago(one.now - (f.changed_since ?? 0))}`}
            ><ul class="changes">
              {#each f.changes as c, i (i)}<li>
                  <b>{c.what}</b>
                  {c.was}{c.was && c.now ? ' → ' : ''}{c.now}
                </li>{/each}
            </ul></Section
          >{/if}
        <Section title="Identity"
          ><dl>
            <dt>System</dt>
            <dd>{f.os || '—'}, kernel {f.kernel || '—'}</dd>
            <dt>Hypervisor</dt>
            <dd>{f.hypervisor || '—'}</dd>
            <dt>Hostname</dt>
            <dd>{f.hostname || '—'}</dd>
            <dt>Time</dt>
            <dd>
              {f.time
                ? `${Math.abs(f.time.offset_s ?? 0) < 0.05 + (f.time.uncertain_s ?? 0) ? 'in sync' : `${Math.abs(f.time.offset_s ?? 0).toFixed(2)} s ${(f.time.offset_s ?? 0) > 0 ? 'ahead' : 'behind'}`}, follows ${f.time.source || 'no source'}`
                : '—'}
            </dd>
            <dt>DNS servers</dt>
            <dd>{f.resolvers?.join(', ') || '—'}</dd>
            <dt>Login</dt>
            <dd>{one.host.user}, keyring entry “{one.host.credential}”</dd>
            <dt>Host key</dt>
            <dd class="mono">
              {one.fingerprint || 'not seen yet'}{#if one.fingerprint}<Copy
                  text={one.fingerprint}
                  what={`host key of ${name}`}
                />{/if}
            </dd>
          </dl>
          {#if one.fingerprint && f.trouble_code === 'host-key-changed'}<p class="alarm">
              Compare the key on the host’s own console first.
            </p>
            <Button
              kind="danger"
              onclick={() =>
                void data.work('forgetting', () => send('DELETE', `/estate/hosts/${name}/pin`))}
              >Unpin host key</Button
            >{/if}
          {#if f.unread?.length}<ul class="changes">
              {#each f.unread as u (u)}<li class="quiet">not read: {u}</li>{/each}
            </ul>{/if}</Section
        >
        <Section title="Settings"
          ><form
            class="own"
            onsubmit={(e) => {
              e.preventDefault();
              void change(
                { name: called, site, bay, note, tags: tags.split(/[\s,]+/).filter(Boolean) },
                called,
              );
            }}
          >
            <label
              >Name <input
                bind:value={called}
                maxlength="60"
                required
                pattern="[a-z0-9][a-z0-9.\-]*"
              /></label
            >
            <div class="pair">
              <label>Room <input bind:value={site} maxlength="60" required /></label><label
                >Bay <input bind:value={bay} maxlength="60" required /></label
              >
            </div>
            <label>Tags <input bind:value={tags} placeholder="words to filter by" /></label><label
              >Note <textarea
                bind:value={note}
                rows="2"
                maxlength="500"
                placeholder="notes for the team"></textarea></label
            >
            <div class="acts">
              {#if called !== one.host.name || site !== one.host.site || bay !== one.host.bay || tags !== (one.host.tags ?? []).join(' ') || note !== (one.host.note ?? '')}<Button
                  kind="main"
                  type="submit">Keep</Button
                >{/if}{#if retiring}<Button
                  kind="danger"
                  onclick={() =>
                    void data
                      .work('retiring', () => send('DELETE', `/estate/hosts/${name}`))
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
          </form></Section
        >
      </aside>
    </div>
  </div>
{/if}

<style>
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
    padding: 8px 0 6px;
    border-bottom: 1px solid var(--line);
  }
  h1 {
    font-size: var(--text-l);
  }
  b {
    font-weight: 600;
  }
  .crumb,
  .bar p {
    font-size: var(--text-s);
  }
  .doors {
    display: flex;
    gap: 8px;
    align-items: center;
  }
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
  .sockets {
    display: flex;
    gap: 12px;
    align-items: stretch;
  }
  .socket {
    border: 1px solid var(--strong-line);
    padding: 6px 7px 3px;
    background: var(--surface);
  }
  .cores {
    display: grid;
    grid-template-columns: repeat(8, 8px);
    gap: 2px;
  }
  .cores i {
    width: 8px;
    height: 8px;
    background: var(--rock);
  }
  .socket p,
  .memory p {
    font-size: 10.5px;
    color: var(--muted);
    margin-top: 4px;
  }
  .memory {
    flex: 1;
    min-width: 0;
  }
  .strip {
    display: flex;
    height: 38px;
    border: 1px solid var(--strong-line);
    background: var(--surface);
  }
  .guest {
    background: var(--rock);
    color: var(--rock-ink);
    border-right: 1px solid var(--paper);
    font-size: 11px;
    padding: 3px 5px;
    overflow: hidden;
    white-space: nowrap;
    flex-basis: 0;
    min-width: 3px;
  }
  .guest.ours {
    background: var(--role-1);
    color: var(--on-role);
  }
  .free {
    flex-basis: 0;
  }
  svg text {
    font-size: 12px;
    fill: var(--ink);
  }
  svg .layer {
    font-size: 11px;
    fill: var(--muted);
  }
  svg .note {
    font: 10px var(--mono);
    fill: var(--muted);
  }
  g rect {
    fill: var(--surface);
    stroke: var(--strong-line);
  }
  .network rect {
    fill: var(--sunk);
  }
  .bridge rect {
    stroke-width: 1.8;
  }
  .vlan rect {
    stroke-dasharray: 4 2;
  }
  .down rect {
    stroke: var(--blocker);
    stroke-dasharray: 2 3;
    fill: none;
  }
  .wire {
    fill: none;
    stroke: var(--soft);
    stroke-width: 1.5;
  }
  .wire.bad {
    stroke: var(--blocker);
    stroke-dasharray: 3 3;
  }
  .halves {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 26px;
  }
  .store {
    margin-bottom: 8px;
    font-size: var(--text-s);
  }
  .store p {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .tank {
    position: relative;
    height: 14px;
    border: 1px solid var(--strong-line);
    background: var(--surface);
  }
  .tank i {
    display: block;
    height: 100%;
    background: repeating-linear-gradient(45deg, var(--rock) 0 4px, var(--hatch) 4px 5px);
  }
  .tank em {
    position: absolute;
    top: -3px;
    bottom: -3px;
    border-left: 1px dashed var(--ink);
  }
  .asleep {
    opacity: 0.6;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  .disks li {
    display: flex;
    gap: 10px;
    font-size: var(--text-s);
    margin-bottom: 6px;
  }
  .disks svg {
    flex: none;
    margin-top: 2px;
  }
  .disks rect,
  .disks path {
    fill: none;
    stroke: var(--soft);
  }
  [data-use='free'] .use {
    font-weight: 600;
  }
  [data-use='remains'] .use {
    color: var(--caution);
  }
  [data-use='remains'] rect {
    stroke: var(--caution);
    stroke-dasharray: 3 2;
  }
  table {
    border-collapse: collapse;
    width: 100%;
    font-size: var(--text-s);
  }
  th,
  td {
    text-align: left;
    font-weight: 400;
    padding: 3px 14px 3px 0;
    border-bottom: 1px solid var(--line);
  }
  th {
    font-weight: 600;
  }
  .fit li {
    display: flex;
    gap: 8px;
    font-size: var(--text-s);
    padding: 2px 0;
  }
  .fit :global(svg) {
    margin-top: 3px;
  }
  .remedy {
    display: block;
  }
  .changes li {
    font-size: var(--text-s);
    padding: 1px 0;
  }
  .alarm {
    color: var(--blocker);
    font-size: var(--text-s);
    margin: 4px 0;
  }
  dl {
    display: grid;
    grid-template-columns: 82px 1fr;
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
  .own {
    display: grid;
    gap: 6px;
  }
  .pair {
    display: grid;
    grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
    gap: 10px;
  }
  .own {
    grid-template-columns: minmax(0, 1fr);
  }
  .own input,
  .own textarea {
    width: 100%;
    min-width: 0;
  }
  .own label {
    display: grid;
    gap: 2px;
    font-size: var(--text-s);
    color: var(--muted);
  }
  .own input,
  .own textarea {
    padding: 4px 8px;
    border: 1px solid var(--strong-line);
    background: var(--surface);
    border-radius: var(--radius);
    color: var(--ink);
    resize: vertical;
  }
  .acts {
    display: flex;
    gap: 8px;
    margin-top: 4px;
    flex-wrap: wrap;
  }
</style>
