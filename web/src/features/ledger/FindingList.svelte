<script lang="ts">
  /** What checks noticed, the heaviest first: where, what, why it matters, and what mends it. */
  import type { Edit, Finding, PlanView } from '../../lib/api/types';
  import { count } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import GuideLink from '../../lib/ui/GuideLink.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import Section from './Section.svelte';

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

<style>
  ul {
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
</style>
