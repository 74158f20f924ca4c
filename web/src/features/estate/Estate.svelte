<script lang="ts">
  import { get, send } from '../../lib/api/client';
  import type { EstateView, FitnessView } from '../../lib/api/types';
  import { ago, count, gib, size, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';
  import Wall from '../wall/Wall.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import AddHosts from './AddHosts.svelte';
  import Fitness from './Fitness.svelte';

  let estate = $state.raw<EstateView | null>(null);
  let fitness = $state.raw<FitnessView | null>(null);
  let judged = $derived(router.query.get('see') === 'fitness');
  let adding = $state(false), retiring = $state(''), note = $state(''), bay = $state('');
  let busy = $state(false), filter = $state(''), tall = $state(innerHeight);
  let chosen = $derived(estate?.hosts.find((h) => h.name === router.query.get('host')));
  let shown = $derived(estate?.hosts.filter((h) => filter === '' || [h.name, h.bay, h.site, h.address, ...h.networks, ...h.bedrock.map((b) => b.name)].some((t) => t.toLowerCase().includes(filter.toLowerCase()))) ?? []);
  let nets = $derived(estate?.networks.map((n) => n.name) ?? []);
  let bad = $derived(estate?.hosts.filter((h) => h.trouble) ?? []);
  let memory = $derived(estate?.hosts.reduce((sum, h) => sum + h.memory_bytes, 0) ?? 0);
  let used = $derived(estate?.hosts.reduce((sum, h) => sum + h.bedrock.reduce((a, b) => a + b.memory_bytes, 0), 0) ?? 0);
  let sites = $derived(new Set(estate?.hosts.map((h) => h.site)).size);

  async function work(task: () => Promise<EstateView>) {
    busy = true;
    try { estate = await task(); fitness = await get<FitnessView>('/estate/rules'); } catch (error) { notices.problem(error); } finally { busy = false; }
  }
  $effect(() => { void work(() => get<EstateView>('/estate')); });
  const read = (hosts: string[]) => work(() => send<EstateView>('POST', '/estate/read', { hosts }));
  $effect(() => { note = chosen?.note ?? ''; bay = chosen?.bay ?? ''; });
  const change = (body: object) => work(() => send<EstateView>('PATCH', `/estate/hosts/${chosen!.name}`, body));
  const choose = (name: string) => router.go(`/estate?host=${name}${judged ? '&see=fitness' : ''}`, true);
  const see = (what: string) => router.go(`/estate?${chosen ? `host=${chosen.name}&` : ''}see=${what}`, true);
  let mine = $derived(fitness?.violations.filter((v) => v.host === chosen?.name) ?? []);
  let heavy = $derived(fitness?.violations.filter((v) => v.severity !== 'note') ?? []);
</script>

<svelte:window bind:innerHeight={tall} />
{#if estate && !estate.hosts.length}
  <div class="empty"><h1>The estate is empty.</h1><p class="quiet">Paste or load a list of hypervisor hosts, look at them, and add those whose login works. Networks and pools come from a file: <code class="mono">nimble-stone estate load FILE</code>.</p><p class="first"><Button kind="main" onclick={() => { adding = true; }}>Add hosts</Button></p></div>
{:else if estate}
  <div class="page">
    <div class="bar"><div><h1>{count(estate.hosts.length, 'host')} in {count(sites, 'room')}. <b>{bad.length ? `${bad.map((h) => h.name).slice(0, 3).join(', ')} ${bad.length === 1 ? 'is' : 'are'} not reached` : 'All of them answer'}</b>; {size(memory - used)} of {size(memory)} memory is free.</h1>
      <p class="quiet">hatched: what runs there already · dotted: what guests may be given</p></div><div class="doors"><Button onclick={() => { adding = true; }}>Add hosts</Button><Button kind="main" disabled={busy} onclick={() => read([])}>{busy ? 'Reading …' : 'Read all hosts'}</Button></div></div>
    <div class="body">
      <div class="left">
        <div class="gap"></div>
        <Wall hosts={shown} nodes={[]} {filter} height={Math.round(Math.max(200, Math.min(360, tall * 0.36)))} onhost={choose} />
        <div class="tools"><input bind:value={filter} placeholder="Filter by typing" aria-label="Filter" />
          <span class="see" role="group" aria-label="What the table shows"><button aria-pressed={!judged} onclick={() => see('facts')}>facts</button><button aria-pressed={judged} onclick={() => see('fitness')}>fitness{heavy.length ? `: ${count(new Set(heavy.map((v) => v.host)).size, 'host')} to look at` : ''}</button></span></div>
        <div class="table">{#if judged && fitness}<Fitness {fitness} hosts={shown} chosen={chosen?.name ?? ''} onchoose={choose} />{:else}<table>
          <thead><tr><th>Host</th><th>Bay</th><th>Address</th><th class="r">Memory free</th><th class="r">Threads</th><th>Guests</th>{#each nets as n (n)}<th class="net">{n}</th>{/each}<th>Datastores free</th><th>Read</th></tr></thead>
          <tbody>{#each shown as h (h.name)}
            <tr class:chosen={chosen?.name === h.name} class:bad={h.trouble}><th scope="row"><button onclick={() => choose(h.name)}>{h.name}</button></th><td title={h.site}>{h.bay}</td><td class="mono">{h.address}</td>
              <td class="mono r">{gib(h.memory_bytes - h.bedrock.reduce((a, b) => a + b.memory_bytes, 0))} of {gib(h.memory_bytes)}</td><td class="mono r">{h.threads}</td><td>{h.bedrock.length}{h.bedrock.some((b) => b.ours) ? `, ${h.bedrock.filter((b) => b.ours).length} ours` : ''}</td>
              {#each nets as n (n)}<td class="net">{#if h.networks.includes(n)}<svg width="11" height="11" role="img" aria-label="carried"><rect x="1" y="1" width="9" height="9" /></svg>{:else}<svg width="11" height="11" role="img" aria-label="not carried"><path d="M2 5.500h7" /></svg>{/if}</td>{/each}
              <td class="mono">{h.stores.map((s) => size(s.free_bytes)).join(' · ')}</td><td class="quiet" title={utc(h.read_at)}>{h.trouble ? 'not reached' : ago(estate!.now - h.read_at)}</td></tr>
          {/each}</tbody></table>{/if}</div>
      </div>
      <aside aria-label="Ledger">
        {#if chosen}
          <Section title={chosen.name} aside={chosen.address}>
            {#if chosen.trouble}<p class="alarm">{chosen.trouble}</p>{/if}
            <dl><dt>Hypervisor</dt><dd>{chosen.hypervisor || '—'}</dd><dt>CPU</dt><dd>{chosen.cpu_model}, {chosen.threads} threads</dd><dt>Guests run</dt><dd>{chosen.domain_type === 'kvm' ? 'accelerated (KVM)' : chosen.domain_type ? 'in software emulation' : '—'}: {chosen.domain_reason}</dd>
              <dt>Carries</dt><dd>{chosen.networks.join(', ')}</dd><dt>Login</dt><dd>keyring entry “{chosen.credential}”</dd><dt>Host key</dt><dd class="mono">{chosen.fingerprint || 'not seen yet'}</dd></dl>
            <div class="acts"><Button disabled={busy} onclick={() => read([chosen!.name])}>Read {chosen.name}</Button>
              {#if chosen.fingerprint && chosen.trouble.includes('host key')}<Button kind="danger" onclick={() => work(() => send<EstateView>('DELETE', `/estate/hosts/${chosen!.name}/pin`))}>Forget this key</Button>{/if}</div>
            <form class="own" onsubmit={(e) => { e.preventDefault(); void change({ bay, note }); }}><label>Bay <input bind:value={bay} maxlength="60" required /></label><label>Note <textarea bind:value={note} rows="2" maxlength="500" placeholder="what the team should know"></textarea></label>
              <div class="acts">{#if bay !== chosen.bay || note !== chosen.note}<Button kind="main" type="submit">Keep</Button>{/if}{#if retiring === chosen.name}<Button kind="danger" onclick={() => { const name = chosen!.name; retiring = ''; void work(() => send<EstateView>('DELETE', `/estate/hosts/${name}`)); }}>Take {chosen.name} out of the estate</Button><Button onclick={() => { retiring = ''; }}>Keep it</Button>{:else}<Button onclick={() => { retiring = chosen!.name; }}>Retire …</Button>{/if}</div></form>
          </Section>
          {#if mine.length}<Section title="Fitness" aside={count(mine.length, 'thing')}><ul class="fit">{#each mine as v, i (i)}<li><Weight severity={v.severity} /><span>{v.message}{#if v.remedy}<span class="quiet remedy">{v.remedy}</span>{/if}</span></li>{/each}</ul></Section>{/if}
          <Section title="Runs there" aside={count(chosen.bedrock.length, 'guest')}><ul>{#each chosen.bedrock as b (b.name)}<li><span>{b.name}{b.ours ? ' (ours)' : ''}</span><span class="mono">{size(b.memory_bytes)}</span></li>{/each}</ul></Section>
          <Section title="Datastores" aside="free of all"><ul>{#each chosen.stores as s (s.name)}<li title={s.shared}><span>{s.name}{s.shared ? ', shared' : ''}</span><span class="mono">{size(s.free_bytes)} of {size(s.capacity_bytes)}</span></li>{/each}</ul></Section>
        {:else}<p class="quiet choose">Choose a host in the wall or the table to see what it is made of.</p>{/if}
        <Section title="Networks" aside={estate.networks.length ? 'gateway' : ''}>{#if !estate.networks.length}<p class="quiet choose">None described yet; they come from an estate file: <code class="mono">nimble-stone estate load FILE</code>.</p>{/if}<ul>{#each estate.networks as n (n.name)}<li><span>{n.name} <span class="mono quiet">{n.subnet}</span></span><span class="mono">{n.gateway}</span></li>{/each}</ul></Section>
        <Section title="Pools">{#if !estate.pools.length}<p class="quiet choose">None yet; a pool hands out a network’s addresses in order.</p>{/if}<ul>{#each estate.pools as p (p.name)}<li><span>{p.name}</span><span class="mono">{p.first} … {p.last.split('.').slice(2).join('.')}</span></li>{/each}</ul></Section>
      </aside>
    </div>
  </div>
{/if}
{#if adding && estate}<AddHosts bays={[...new Set(estate.hosts.map((h) => h.bay))]} sites={[...new Set(estate.hosts.map((h) => h.site))]} onadded={(view) => { estate = view; }} onclose={() => { adding = false; }} />{/if}

<style>
  .page { display: flex; flex-direction: column; height: 100%; padding: 0 20px; min-height: 0; }
  .bar { display: flex; justify-content: space-between; gap: 28px; align-items: flex-start; padding: 10px 0 6px; border-bottom: 1px solid var(--line); } h1 { font-size: var(--text-l); } b { font-weight: 600; } .bar p { font-size: var(--text-s); }
  .body { display: grid; grid-template-columns: minmax(0, 1fr) 316px; flex: 1; min-height: 0; } .left { display: flex; flex-direction: column; min-height: 0; min-width: 0; padding-right: 18px; }
  aside { border-left: 1px solid var(--line); padding: 10px 0 20px 18px; overflow: auto; }
  .doors { display: flex; gap: 8px; } .first { margin-top: 14px; } .own { display: grid; gap: 6px; margin-top: 10px; } .own label { display: grid; gap: 2px; font-size: var(--text-s); color: var(--muted); } .own input, .own textarea { padding: 4px 8px; border: 1px solid var(--strong-line); background: var(--surface); border-radius: var(--radius); color: var(--ink); resize: vertical; }
  .see { margin-left: 18px; font-size: var(--text-s); } .see button { border: 0; background: none; padding: 2px 0; margin-right: 14px; cursor: pointer; color: var(--muted); border-bottom: 2px solid transparent; } .see button[aria-pressed='true'] { color: var(--ink); border-color: var(--ink); } .fit li { justify-content: flex-start !important; gap: 8px; } .remedy { display: block; }
  .gap { height: 8px; } .tools { padding: 4px 0; } .tools input { border: 0; border-bottom: 1px solid var(--strong-line); background: none; padding: 2px 4px; font-size: var(--text-s); }
  .table { overflow: auto; flex: 1; min-height: 0; border-top: 1px solid var(--strong-line); } table { border-collapse: separate; border-spacing: 0; width: 100%; }
  thead th { position: sticky; top: 0; background: var(--sunk); color: var(--soft); font-weight: 400; font-size: var(--text-s); text-align: left; padding: 4px 8px; white-space: nowrap; }
  td, tbody th { padding: 4px 8px; border-bottom: 1px solid var(--line); white-space: nowrap; text-align: left; font-weight: 400; } .r { text-align: right !important; } .net { text-align: center !important; }
  tbody button { border: 0; background: none; padding: 0; font-weight: 600; cursor: pointer; } tbody button:hover { color: var(--accent); } .chosen > * { background: var(--accent-wash); } .bad td:last-child, .alarm { color: var(--blocker); }
  rect { fill: var(--soft); } path { stroke: var(--muted); stroke-width: 1.5; }
  dl { display: grid; grid-template-columns: 78px 1fr; gap: 4px 10px; margin: 0; font-size: var(--text-s); } dt { color: var(--muted); } dd { margin: 0; overflow-wrap: anywhere; }
  ul { list-style: none; margin: 0; padding: 0; font-size: var(--text-s); } li { display: flex; justify-content: space-between; gap: 10px; padding: 1px 0; } .acts { display: flex; gap: 8px; margin-top: 10px; } .choose { margin-bottom: 18px; } .empty { padding: 60px 20px; }
</style>
