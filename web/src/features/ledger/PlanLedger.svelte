<script lang="ts">
  import type { Edit, Finding, PlanView } from '../../lib/api/types';
  import { count, inside, middle, size, span } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import Section from './Section.svelte';
  import GuideLink from '../../lib/ui/GuideLink.svelte';

  interface Props {
    plan: PlanView;
    onedit: (edits: Edit[]) => void;
    onfix: (finding: Finding) => void;
  }
  let { plan, onedit, onfix }: Props = $props();
  let all = $state(false);
  let names = $derived(new Map(plan.nodes.map((n) => [n.id, n.name])));
  let labels = $derived(new Map(plan.columns.map((c) => [c.id, c.label])));
  let shown = $derived(all ? plan.findings : plan.findings.slice(0, 8));
  let tally = $derived(
    ['blocker', 'caution', 'note']
      .map((s) => [s, plan.findings.filter((f) => f.severity === s).length] as const)
      .filter(([, n]) => n)
      .map(([s, n]) => count(n, s))
      .join(' · '),
  );
  const where = (f: Finding) =>
    [
      f.node ? names.get(f.node) : '',
      f.column ? (labels.get(f.column) ?? f.column) : '',
      f.host && !f.message.startsWith(f.host) ? f.host : '',
    ]
      .filter(Boolean)
      .join(' · ') || 'the plan';
  const pct = (part: number, whole: number) => Math.min(100, (100 * part) / Math.max(1, whole));
  const TITLES: Record<string, string> = {
    ipv4: 'Addresses',
    ipv6: 'IPv6 addresses',
    mac: 'MAC addresses',
    number: 'Numbers',
  };
</script>

<Section title="Findings" aside={tally}>
  {#if !plan.findings.length}<p class="quiet">
      No findings. “Check and run” checks the hosts again before changing anything.
    </p>{/if}
  <ul class="findings">
    {#each shown as f, i (`${f.code}/${f.node}/${f.column}/${f.host}/${i}`)}
      <li data-severity={f.severity}>
        <Weight severity={f.severity} />
        <div>
          <button class="where" onclick={() => onfix(f)}>{where(f)}</button><GuideLink
            to={`findings#${f.code}`}
            about={f.code}
          />
          <p>{f.message}</p>
          {#if f.consequence}<p class="quiet">{f.consequence}</p>{/if}
          {#if f.remedy}
            {#if f.remedy.edit}<Button
                kind="link"
                onclick={() => f.remedy?.edit && onedit([f.remedy.edit])}>{f.remedy.label}</Button
              >
            {:else}<Button kind="link" onclick={() => onfix(f)}>{f.remedy.label}</Button>{/if}
          {/if}
        </div>
      </li>
    {/each}
  </ul>
  {#if plan.findings.length > 8}<Button
      kind="link"
      onclick={() => {
        all = !all;
      }}>{all ? 'Show the first 8' : `Show all ${plan.findings.length}`}</Button
    >{/if}
</Section>

<Section title="Sequence" aside={`expected ${span(plan.forecast_s)}`}>
  <ol class="waves">
    {#each plan.waves as w (w.number)}
      <li>
        <span class="mono">{w.number}</span>
        <div>
          <p>{w.labels.map(inside).join(' · ')}</p>
          <div class="track" aria-hidden="true">
            <i
              style:left={`${pct(w.from_s, plan.forecast_s)}%`}
              style:width={`${pct(w.to_s - w.from_s, plan.forecast_s)}%`}
            ></i>
          </div>
        </div>
        <span class="mono quiet">{count(w.steps, 'step')}</span>
      </li>
    {/each}
  </ol>
</Section>

{#if plan.keeps}
  {@const k = plan.keeps}
  <Section title="Usable capacity" aside={k.label}>
    {#if k.reason}<p class="keeps short">{k.reason}</p>{:else}
      <div class="room" aria-hidden="true">
        <i class="usable" style:width={`${pct(k.usable_bytes, k.raw_bytes)}%`}></i><i
          class="waste"
          style:width={`${pct(k.wasted_bytes, k.raw_bytes)}%`}
        ></i>
      </div>
      <p class="keeps">
        <b class="mono">{size(k.usable_bytes)}</b> usable of
        <span class="mono">{size(k.raw_bytes)}</span>{k.wasted_bytes > 0.001 * k.raw_bytes
          ? `, ${size(k.wasted_bytes)} unusable`
          : ''}. {k.survives
          ? `${count(k.survives, 'host')} can fail without data loss; up to ${size(k.safe_bytes)} used, data can be rebuilt after losing the largest host.`
          : 'Not redundant: any host failure loses data.'}
      </p>{/if}
  </Section>
{/if}

<Section title="Datastores" aside="now / after / when full">
  <ul class="bars">
    {#each plan.stores.slice(0, 10) as s (s.host + s.name)}
      <li
        title={`${s.name}: ${size(s.used_bytes)} used of ${size(s.capacity_bytes)}; ${count(s.nodes, 'node')} of this plan: ${size(s.thin_bytes)} thin, ${size(s.full_bytes)} when full`}
      >
        <span class="label">{middle(s.name, 15)}</span>
        <span class="bar"
          ><i class="used" style:width={`${pct(s.used_bytes, s.capacity_bytes)}%`}></i><i
            class="thin"
            style:left={`${pct(s.used_bytes, s.capacity_bytes)}%`}
            style:width={`max(2px, ${pct(s.thin_bytes, s.capacity_bytes)}%)`}
          ></i>
          <i
            class="worst"
            class:over={s.used_bytes + s.full_bytes > 0.9 * s.capacity_bytes}
            style:left={`${pct(s.used_bytes + s.full_bytes, s.capacity_bytes)}%`}
          ></i></span
        >
        <span class="mono">{Math.round(pct(s.used_bytes + s.full_bytes, s.capacity_bytes))} %</span>
      </li>
    {/each}
  </ul>
</Section>

{#each plan.pools as pool (pool.name)}
  <Section
    title={TITLES[pool.kind ?? 'ipv4'] ?? 'Addresses'}
    aside={`${pool.kind === 'ipv4' ? 'pool' : 'series'} ${pool.name}`}
  >
    <div class="cells" aria-hidden="true">
      {#each pool.kind === 'ipv4' ? pool.cells : pool.cells.slice(0, 64) as mark, i (i)}<i
          data-mark={mark}
        ></i>{/each}
    </div>
    <p class="mono quiet">
      {pool.first} … {pool.last.split(pool.kind === 'ipv4' ? '.' : ':').at(-1)} · {pool.free} free
    </p>
  </Section>
{/each}

<Section title="Impact of one host failure">
  <ul class="losses">
    {#each plan.losses.slice(0, 8) as l (l.host)}<li>
        <b>{l.host}</b><span>{l.text}</span>
      </li>{/each}
  </ul>
</Section>

<style>
  ul,
  ol {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  .findings li {
    display: grid;
    grid-template-columns: 13px 1fr;
    gap: 9px;
    padding: 0 0 11px;
  }
  .findings :global(svg) {
    margin-top: 4px;
  }
  .where {
    border: 0;
    background: none;
    padding: 0;
    font-weight: 600;
    cursor: pointer;
    text-align: left;
  }
  .where:hover {
    color: var(--accent);
    text-decoration: underline;
  }
  .findings p {
    font-size: var(--text-s);
    line-height: 1.35;
  }
  .waves li {
    display: grid;
    grid-template-columns: 14px 1fr auto;
    gap: 8px;
    margin-bottom: 6px;
    font-size: var(--text-s);
  }
  .track {
    height: 5px;
    position: relative;
    background: var(--sunk);
    margin-top: 2px;
  }
  .track i {
    position: absolute;
    top: 0;
    bottom: 0;
    background: var(--strong-line);
  }
  .bars li {
    display: grid;
    grid-template-columns: 94px 1fr 38px;
    gap: 9px;
    align-items: center;
    margin-bottom: 4px;
    font-size: var(--text-s);
  }
  .label {
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
  }
  .bars .mono {
    text-align: right;
  }
  .bar {
    position: relative;
    height: 11px;
    border: 1px solid var(--line);
    background: var(--surface);
  }
  .bar i {
    position: absolute;
    top: 0;
    bottom: 0;
    left: 0;
  }
  .used {
    background: var(--strong-line);
    opacity: 0.7;
  }
  .thin {
    background: var(--role-1);
  }
  .worst {
    width: 2px;
    background: var(--ink);
    top: -3px !important;
    bottom: -3px !important;
  }
  .worst.over {
    background: var(--blocker);
    width: 3px;
  }
  .room {
    display: flex;
    height: 11px;
    border: 1px solid var(--line);
    background:
      repeating-linear-gradient(135deg, transparent 0 4px, var(--line) 4px 5px), var(--surface);
    margin-bottom: 5px;
  }
  .usable {
    background: var(--role-1);
  }
  .waste {
    background: var(--blocker);
    margin-left: auto;
  }
  .keeps {
    font-size: var(--text-s);
  }
  .keeps b {
    font-weight: 600;
  }
  .short {
    color: var(--blocker);
  }
  .cells {
    display: grid;
    grid-template-columns: repeat(auto-fill, 11px);
    gap: 2px;
    margin-bottom: 5px;
  }
  .cells i {
    height: 11px;
    border: 1px solid var(--line);
    background: var(--surface);
  }
  [data-mark='t'] {
    background: var(--strong-line) !important;
  }
  [data-mark='x'] {
    background: linear-gradient(
      135deg,
      transparent 45%,
      var(--strong-line) 45% 58%,
      transparent 58%
    ) !important;
  }
  [data-mark='p'] {
    background: var(--role-1) !important;
    border-color: var(--role-1) !important;
  }
  [data-mark='!'] {
    background: var(--blocker) !important;
    border-color: var(--blocker) !important;
  }
  .losses li {
    display: grid;
    grid-template-columns: 94px 1fr;
    gap: 9px;
    font-size: var(--text-s);
    margin-bottom: 3px;
  }
  .losses b {
    font-weight: 600;
  }
</style>
