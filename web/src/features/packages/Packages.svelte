<script lang="ts">
  import { get } from '../../lib/api/client';
  import type { PackageView } from '../../lib/api/types';
  import { count, middle, moment, size, span, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import Section from '../ledger/Section.svelte';
  import { Upload } from './upload.svelte';

  interface Props { sha?: string }
  let { sha = '' }: Props = $props();
  let list = $state.raw<PackageView[] | null>(null);
  let uploads = $state.raw<Upload[]>([]);
  let over = $state(false);
  let input: HTMLInputElement | undefined = $state();
  let one = $derived(list?.find((p) => p.sha256.startsWith(sha) && sha) ?? list?.[0]);
  let most = $derived(Math.max(1, ...(one?.sizes.map((s) => s.memory_bytes) ?? [])));
  let groups = $derived([...new Set(one?.questions.map((q) => q.category))]);
  const load = () => get<PackageView[]>('/packages').then((found) => { list = found; }).catch((e: unknown) => notices.problem(e));
  $effect(() => { void load(); });
  function take(files: FileList | null) {
    for (const file of files ?? []) uploads = [...uploads, new Upload(file, (view) => { void load(); router.go(`/packages/${view.sha256}`); })];
    if (input) input.value = '';
  }
</script>

<svelte:window ondragover={(e) => { e.preventDefault(); over = true; }} ondragleave={(e) => { if (!e.relatedTarget) over = false; }} ondrop={(e) => { e.preventDefault(); over = false; take(e.dataTransfer?.files ?? null); }} />
<div class="page">
  <div class="bar"><div><h1>{#if list && !list.length}No package was taken in yet. <b>Drop an OVA anywhere on this page.</b>{:else if one}{count(list?.length ?? 0, 'package')}. <b>{one.product} {one.version}</b> by {one.vendor || 'an unnamed publisher'}: {one.vouched ? 'every file matches its manifest' : 'not every file is vouched for'}{one.signed ? ', signed' : ', not signed'}.{/if}</h1>
    <p class="quiet">digests are verified while the bytes come in; what fails leaves nothing behind</p></div>
    <input bind:this={input} type="file" accept=".ova" multiple hidden onchange={(e) => take(e.currentTarget.files)} /><Button kind="main" onclick={() => input?.click()}>Take in an OVA</Button></div>
  {#if over}<div class="drop" aria-hidden="true">Drop to take in</div>{/if}
  {#each uploads.filter((u) => u.state !== 'done') as u (u)}
    <div class="upload" data-state={u.state} role="status"><b>{middle(u.name, 44)}</b>
      {#if u.state === 'failed'}<span class="alarm">{u.problem?.detail} {u.problem?.hint}</span>{:else if u.state === 'stopped'}<span>stopped by you; nothing of it was kept</span>
      {:else}<progress value={u.sent} max={u.total} aria-label={`Sending ${u.name}`}></progress><span class="mono">{size(u.sent)} of {size(u.total)}{u.state === 'sending' ? ` · ${size(u.rate)}/s · ${span(u.left)} left` : ' · verifying'}</span><Button onclick={() => u.stop()}>Stop</Button>{/if}
      {#if u.state === 'failed' || u.state === 'stopped'}<Button onclick={() => { uploads = uploads.filter((x) => x !== u); }}>Dismiss</Button>{/if}</div>
  {/each}
  {#if one}
    <div class="body">
      <nav aria-label="Packages"><ul>{#each list ?? [] as p (p.sha256)}<li><a href={`/packages/${p.sha256}`} aria-current={p.sha256 === one.sha256}><b>{p.product}</b> {p.version}<span class="quiet">{size(p.size)}</span></a></li>{/each}</ul></nav>
      <div class="middle">
        <Section title="Sizes on offer" aside="memory">
          <table><tbody>{#each one.sizes as s (s.id)}<tr><th scope="row">{s.label}{s.default ? ' (default)' : ''}</th><td class="quiet">{s.description}</td><td class="mono r">{s.vcpu} vCPU</td><td class="stone"><i style:width={`${(100 * s.memory_bytes) / most}%`}></i></td><td class="mono r">{size(s.memory_bytes)}</td></tr>{/each}</tbody></table>
        </Section>
        <Section title="Disks of one node">
          <div class="thick" title="thin of fully reserved"><i style:width={`max(3px, ${(100 * one.thin_bytes) / Math.max(1, one.full_bytes)}%)`}></i></div>
          <p><span class="mono">{size(one.thin_bytes)}</span> if thin, at first · <span class="mono">{size(one.full_bytes)}</span> if fully reserved, or when it fills · <span class="mono">{size(one.thin_bytes)}</span> travel to each datastore</p>
        </Section>
        <Section title="Networks it wants" aside={count(one.networks.length, 'interface')}>
          <svg class="nets" width="100%" height={Math.max(56, one.networks.length * 40 + 16)} role="img" aria-label={`A guest with ${count(one.networks.length, 'interface')}`}><path d={`M4 6h112l6 6v${Math.max(36, one.networks.length * 40 - 8)}l-5 5H8l-4-4z`} class="guest" /><text x="16" y="32">{middle(one.product, 15)}</text>
            {#each one.networks as n, i (n['name'])}<path d={`M122 ${28 + i * 40}h58`} class="wire" /><circle cx="122" cy={28 + i * 40} r="3.500" /><text x="188" y={26 + i * 40} class="strong">{n['name']}</text><text x="188" y={42 + i * 40} class="quiet">{n['description']}</text>{/each}</svg>
        </Section>
        <Section title="Questions it asks" aside={String(one.questions.length)}>
          {#each groups as g (g)}<h3>{g || 'General'}</h3><table><tbody>{#each one.questions.filter((q) => q.category === g) as q (q.key)}<tr><th scope="row">{q.label}{q.secret ? ' (secret)' : ''}</th><td class="mono quiet">{q.key}</td><td>{q.description}</td><td class="quiet">{q.rule}{q.default ? ` default ${q.default}` : ''}</td></tr>{/each}</tbody></table>{/each}
        </Section>
      </div>
      <aside aria-label="Ledger">
        <Section title="Identity"><dl><dt>Product</dt><dd>{one.product} {one.version}</dd><dt>Publisher</dt><dd>{one.vendor || '—'}</dd><dt>File</dt><dd>{one.file_name}, {size(one.size)}</dd><dt>Taken in</dt><dd title={utc(one.added_at)}>{moment(one.added_at)}</dd><dt>SHA-256</dt><dd class="mono">{one.sha256}</dd><dt>Kits</dt><dd>{one.kits.join(', ') || 'none takes it'}</dd>
          <dt>Plans</dt><dd>{#each one.plans as p, i (p)}{i ? ', ' : ''}<a href={`/plans/${p}`}>{p}</a>{:else}none yet{/each}</dd></dl></Section>
        <Section title="Contents"><ul>{#each one.members as m (m.name)}<li title={m.sha256}><StateMark state={m.vouched ? 'proved' : 'planned'} size={13} /><span>{middle(m.name, 28)}</span><span class="mono">{size(m.size)}</span></li>{/each}</ul><p class="quiet">cut: the manifest’s digest holds · outline: not in the manifest</p></Section>
        {#if one.notes.length}<Section title="Notes"><ul>{#each one.notes as n (n)}<li>{n}</li>{/each}</ul></Section>{/if}
        {#if one.licence_text}<Section title="Licence"><!-- svelte-ignore a11y_no_noninteractive_tabindex --><pre tabindex="0">{one.licence_text}</pre><p class="quiet">Accepted per plan, in a person’s name.</p></Section>{/if}
      </aside>
    </div>
  {/if}
</div>

<style>
  .page { display: flex; flex-direction: column; height: 100%; padding: 0 20px; min-height: 0; }
  .bar { display: flex; justify-content: space-between; gap: 28px; align-items: flex-start; padding: 10px 0 6px; border-bottom: 1px solid var(--line); } h1 { font-size: var(--text-l); } b { font-weight: 600; } .bar p { font-size: var(--text-s); }
  .drop { position: fixed; inset: 60px 20px 20px; border: 3px dashed var(--accent); background: color-mix(in srgb, var(--accent-wash) 85%, transparent); display: grid; place-items: center; font-size: 26px; z-index: 9; pointer-events: none; }
  .upload { display: flex; gap: 14px; align-items: center; padding: 8px 0; border-bottom: 1px solid var(--line); } progress { flex: 1; accent-color: var(--accent); height: 12px; } .alarm { color: var(--blocker); flex: 1; } .upload > span { font-size: var(--text-s); }
  .body { display: grid; grid-template-columns: 190px minmax(0, 1fr) 316px; flex: 1; min-height: 0; }
  nav { padding: 12px 14px 0 0; overflow: auto; } nav a { display: block; color: var(--ink); text-decoration: none; padding: 6px 8px; border-left: 3px solid transparent; } nav a span { display: block; font-size: var(--text-s); } nav a[aria-current='true'] { border-color: var(--accent); background: var(--accent-wash); }
  .middle { padding: 10px 22px 20px; overflow: auto; border-left: 1px solid var(--line); } aside { border-left: 1px solid var(--line); padding: 10px 0 20px 18px; overflow: auto; }
  table { border-collapse: collapse; width: 100%; } td, th { padding: 4px 12px 4px 0; text-align: left; vertical-align: top; font-size: var(--text-s); border-bottom: 1px solid var(--line); } th { font-weight: 600; white-space: nowrap; } .r { text-align: right; white-space: nowrap; }
  .stone { width: 30%; } .stone i { display: block; height: 14px; margin-top: 3px; background: var(--role-1); clip-path: polygon(3px 0, 100% 0, 100% calc(100% - 4px), calc(100% - 4px) 100%, 0 100%, 0 3px); }
  .thick { height: 16px; border: 1px solid var(--strong-line); margin-bottom: 6px; background: var(--surface); } .thick i { display: block; height: 100%; background: var(--role-1); } p { font-size: var(--text-s); }
  .guest { fill: var(--surface); stroke: var(--soft); stroke-width: 1.5; } .wire { stroke: var(--soft); stroke-width: 1.5; } circle { fill: var(--soft); } text { font: 13px var(--sans); fill: var(--ink); } text.strong { font-weight: 600; } text.quiet { fill: var(--muted); font-size: 12px; }
  h3 { font-size: var(--text-s); color: var(--muted); margin: 8px 0 2px; }
  dl { display: grid; grid-template-columns: 70px 1fr; gap: 4px 10px; margin: 0; font-size: var(--text-s); } dt { color: var(--muted); } dd { margin: 0; overflow-wrap: anywhere; }
  ul { list-style: none; margin: 0; padding: 0; font-size: var(--text-s); } aside li { display: flex; gap: 8px; } aside li .mono { margin-left: auto; }
  pre { white-space: pre-wrap; font: var(--text-s)/1.5 var(--sans); margin: 0 0 6px; max-height: 260px; overflow: auto; }
</style>
