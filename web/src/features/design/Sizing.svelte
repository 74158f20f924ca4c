<script lang="ts">
  import { send } from '../../lib/api/client';
  import type { Edit, LayoutView, PlanView, SizingView } from '../../lib/api/types';
  import { get } from '../../lib/api/client';
  import { size } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';
  import { curves } from './curve';

  interface Props {
    plan: PlanView;
    busy: boolean;
    onedit: (edits: Edit[]) => void;
  }
  let { plan, busy, onedit }: Props = $props();
  let answer = $state.raw<SizingView | null>(null),
    layouts = $state.raw<LayoutView[]>([]);
  let typed = $state<Record<string, string>>({});
  let load = $state('');
  let timer: ReturnType<typeof setTimeout> | undefined;
  let asked = 0;
  $effect(() => {
    void plan.version;
    void ask();
    void get(`/plans/${plan.id}/layout`)
      .then((found) => {
        layouts = found;
      })
      .catch(() => {
        layouts = [];
      });
  });
  async function ask() {
    const own = ++asked;
    const loads = Object.fromEntries(
      Object.entries(typed)
        .filter(([, text]) => text.trim() !== '' && Number.isFinite(Number(text)))
        .map(([id, text]) => [id, Number(text)]),
    );
    try {
      const found = await send('POST', `/plans/${plan.id}/sizing`, { loads });
      if (own === asked) {
        answer = found;
        load ||= found.loads[0]?.id ?? '';
      }
    } catch (error) {
      if (own === asked) notices.problem(error);
    }
  }
  function type(id: string, text: string) {
    typed[id] = text;
    clearTimeout(timer);
    timer = setTimeout(() => void ask(), 120);
  }
  const taken = (role: string) => plan.roles.find((one) => one.id === role)?.count;
  const sizeOf = (role: string) => {
    const all = new Set(
      plan.nodes.filter((n) => n.role === role).map((n) => n.cells['size']?.value),
    );
    return all.size === 1 ? [...all][0] : '';
  };
  const same = (p: SizingView['proposals'][number]) =>
    p.chosen &&
    taken(p.role) === p.chosen.count &&
    (!Object.keys(p.chosen.carries).length || sizeOf(p.role) === p.chosen.size);
  let proposals = $derived(answer?.proposals ?? []);
  let drawn = $derived(
    proposals.filter(
      (p) => new Set(p.curve.filter((o) => load in o.carries).map((o) => o.count)).size > 1,
    ),
  );
  let wanted = $derived(answer?.loads.find((l) => l.id === load));
</script>

{#if answer && !answer.loads.length}<p class="quiet">
    The kit {plan.kit_title} gives no figures to size by. Set numbers and sizes in the line above the
    wall.
  </p>
{:else if answer}
  <Section title="Workload">
    <div class="loads">
      {#each answer.loads as l (l.id)}<label for={`load-${l.id}`}>{l.label}</label><span
          ><input
            id={`load-${l.id}`}
            inputmode="decimal"
            value={typed[l.id] ?? String(l.value)}
            oninput={(e) => type(l.id, e.currentTarget.value)}
          /><i>{l.unit}</i></span
        >{/each}
    </div>
  </Section>
  <Section title="Proposed nodes">
    <ul>
      {#each proposals as p (p.role)}
        <li class:none={!p.chosen}>
          <span class="role"
            ><b>{p.label}</b>{#if same(p)}<i>as planned</i>{:else}<i
                >planned: {taken(p.role) ?? 0} × {sizeOf(p.role) || 'mixed'}</i
              >{/if}</span
          >
          {#if p.chosen}<span class="mono"
              >{p.chosen.count ? `${p.chosen.count} × ${p.chosen.size}` : '0 nodes'}</span
            ><span class="mono quiet right"
              >{p.chosen.count ? size(p.chosen.memory_bytes) : ''}</span
            >{:else}<span class="bad">no size is enough</span><span></span>{/if}
          {#if p.reason}<p class="quiet">
              {p.chosen ? 'Smaller is not enough: ' : ''}{p.reason}
            </p>{/if}
        </li>
      {/each}
    </ul>
    <Button
      kind={proposals.every(same) ? 'plain' : 'main'}
      disabled={busy ||
        !answer.edits.length ||
        proposals.some((p) => !p.chosen) ||
        proposals.every(same)}
      onclick={() => answer && onedit(answer.edits)}
      >{proposals.every(same) ? 'Applied to plan' : 'Apply to plan'}</Button
    >
  </Section>
  {#if drawn.length && wanted}
    <Section title="Capacity by node count">
      {#if answer.loads.length > 1}<div class="pick">
          {#each answer.loads as l (l.id)}<button
              aria-pressed={l.id === load}
              onclick={() => {
                load = l.id;
              }}>{l.label}</button
            >{/each}
        </div>{/if}
      {#each drawn as p (p.role)}
        {@const c = curves(p.curve, load, wanted.value, p.chosen, 292, 108)}
        <figure>
          <figcaption>
            <b>{p.label}</b>{#each c.lines as line, i (line.size)}{#if line.beyond !== null}<span
                  title="More than the chart shows"
                  >{line.size}: {line.beyond.toLocaleString()}{wanted.unit ? ` ${wanted.unit}` : ''} from
                  {c.from}</span
                >{:else}<span
                  ><svg width="26" height="8" aria-hidden="true"
                    ><path
                      d="M0 4H24"
                      class="line"
                      style:--role={`var(--role-${i % 5})`}
                      stroke-dasharray={['', '5 3', '2 3', '8 2 2 2'][i % 4]}
                    /></svg
                  >{line.size}</span
                >{/if}{/each}
          </figcaption>
          <svg
            width="296"
            height="126"
            role="img"
            aria-label={`What nodes of role ${p.label} carry: ${p.words}`}
          >
            <line x1="0" x2="292" y1="108" y2="108" class="axis" />
            {#if c.level !== null}<line
                x1="0"
                x2="292"
                y1={c.level}
                y2={c.level}
                class="level"
              /><text x="292" y={Math.max(10, c.level - 4)} class="end"
                >{wanted.value.toLocaleString()} wanted</text
              >{/if}
            {#each c.lines as line, i (line.size)}<path
                d={line.path}
                class="line"
                style:--role={`var(--role-${i % 5})`}
                stroke-dasharray={['', '5 3', '2 3', '8 2 2 2'][i % 4]}
              />{/each}
            {#if c.dot}<path d={`M${c.dot.x - 4} ${c.dot.y}l4 -4 4 4 -4 4z`} class="dot" />{/if}
            <text x="0" y="122">{c.from} {c.from === 1 ? 'node' : 'nodes'}</text><text
              x="292"
              y="122"
              class="end">{c.to}</text
            >
          </svg>
        </figure>
      {/each}
    </Section>
  {/if}
{:else}<p class="quiet">Calculating …</p>{/if}

{#if layouts.length}
  <Section
    title="Redundancy schemes"
    aside={`${layouts[0]?.disks} disks on ${layouts[0]?.domains} hosts, ${size(layouts[0]?.raw_bytes ?? 0)}`}
  >
    <table>
      <thead
        ><tr
          ><th>Scheme</th><th class="right">Usable</th><th
            class="right"
            title="Up to this fill, data can be rebuilt after losing the largest host"
            >rebuild-safe</th
          ><th class="right" title="Raw capacity that cannot be used because hosts differ"
            >unusable</th
          ><th class="right" title="Hosts, and disks anywhere, that can fail at once"
            >failures tolerated</th
          ></tr
        ></thead
      >
      <tbody
        >{#each layouts as l (l.label)}<tr class:none={l.reason} class:chosen={l.chosen}
            ><th scope="row"
              >{#if l.chosen}<b>{l.label}</b>{:else}<button
                  class="take"
                  disabled={busy || l.reason !== ''}
                  title={l.reason || `Use ${l.label}`}
                  onclick={() => onedit(l.edits ?? [])}>{l.label}</button
                >{/if}</th
            >{#if l.reason}<td colspan="4" class="quiet">{l.reason}</td>{:else}<td
                class="mono right">{size(l.usable_bytes)}</td
              ><td class="mono right">{size(l.safe_bytes)}</td><td class="mono right"
                >{l.wasted_bytes > 2 ** 20 ? size(l.wasted_bytes) : '–'}</td
              ><td class="mono right">{l.survives_domains}</td>{/if}</tr
          >{/each}</tbody
      >
    </table>
    <p class="quiet">
      {layouts.some((l) => l.chosen)
        ? 'The plan’s scheme is bold. Select another to use it. '
        : ''}Fragments of one chunk are always on different hosts. Rebuild-safe: up to this fill,
      data can be rebuilt after losing the largest host.
    </p>
  </Section>
{/if}

<style>
  .loads {
    display: grid;
    grid-template-columns: 1fr 128px;
    gap: 5px 10px;
    align-items: center;
    font-size: var(--text-s);
  }
  .loads span {
    display: flex;
    align-items: center;
    gap: 6px;
  }
  .loads i {
    font-style: normal;
    color: var(--muted);
  }
  input {
    width: 84px;
    text-align: right;
    border: 1px solid var(--strong-line);
    background: var(--surface);
    padding: 3px 7px;
    border-radius: var(--radius);
    font-family: var(--mono);
    font-size: 12.5px;
  }
  ul {
    list-style: none;
    margin: 0 0 10px;
    padding: 0;
  }
  li {
    display: grid;
    grid-template-columns: 1fr auto 62px;
    gap: 1px 10px;
    align-items: baseline;
    padding: 5px 0;
    border-bottom: 1px solid var(--line);
  }
  li p {
    grid-column: 1 / -1;
    font-size: var(--text-s);
  }
  .role b {
    font-weight: 600;
    margin-right: 7px;
  }
  .role i {
    font-style: normal;
    color: var(--muted);
    font-size: var(--text-s);
  }
  .right {
    text-align: right;
  }
  .bad {
    color: var(--blocker);
  }
  .pick {
    display: flex;
    gap: 12px;
    font-size: var(--text-s);
    margin-bottom: 4px;
  }
  .pick button {
    border: 0;
    background: none;
    padding: 2px 0;
    color: var(--soft);
    cursor: pointer;
    border-bottom: 2px solid transparent;
  }
  .pick [aria-pressed='true'] {
    color: var(--ink);
    border-color: var(--ink);
  }
  figure {
    margin: 0 0 6px;
  }
  figcaption {
    font-size: var(--text-s);
    color: var(--soft);
    display: flex;
    flex-wrap: wrap;
    gap: 0 12px;
    align-items: center;
  }
  figcaption b {
    font-weight: 600;
    color: var(--ink);
  }
  figcaption span {
    display: flex;
    gap: 4px;
    align-items: center;
  }
  svg {
    display: block;
    overflow: visible;
  }
  text {
    font: 11px var(--mono);
    fill: var(--muted);
  }
  .end {
    text-anchor: end;
  }
  .axis {
    stroke: var(--strong-line);
  }
  .level {
    stroke: var(--caution);
    stroke-dasharray: 6 4;
  }
  .line {
    fill: none;
    stroke: var(--role);
    stroke-width: 2;
  }
  .dot {
    fill: var(--accent);
    stroke: var(--paper);
    stroke-width: 1.5;
  }
  .take {
    border: 0;
    background: none;
    padding: 0;
    color: var(--accent);
    text-decoration: underline;
    text-underline-offset: 3px;
    cursor: pointer;
    font: inherit;
  }
  .take:disabled {
    color: var(--muted);
    text-decoration: none;
    cursor: default;
  }
  .chosen {
    background: var(--accent-wash);
  }
  .chosen b {
    font-weight: 600;
  }
  table {
    width: 100%;
    border-collapse: collapse;
    font-size: var(--text-s);
  }
  th,
  td {
    text-align: left;
    padding: 4px 0 4px 8px;
    border-bottom: 1px solid var(--line);
    font-weight: 400;
    white-space: nowrap;
  }
  th:first-child {
    padding-left: 0;
  }
  td[colspan] {
    white-space: normal;
  }
  thead th {
    color: var(--muted);
  }
  .right {
    text-align: right !important;
  }
  .none th {
    color: var(--muted);
  }
</style>
