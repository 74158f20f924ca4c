<script lang="ts">
  /** Which nodes are kept apart, by what: the kit's rules, and those of the plan, which can be changed. */
  import type { Edit, PlanView } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';
  import Section from '../ledger/Section.svelte';

  interface Props {
    plan: PlanView;
    busy: boolean;
    onedit: (edits: Edit[]) => void;
  }
  let { plan, busy, onedit }: Props = $props();
  type Rule = NonNullable<PlanView['separate']>[number];
  const DOMAINS = ['host', 'rack', 'bay', 'site'] as const;
  let own = $derived(plan.separate ?? []);
  let adding = $state(false),
    roles = $state<string[]>([]),
    by = $state<(typeof DOMAINS)[number]>('rack'),
    must = $state(true);
  const label = (id: string) => plan.roles.find((r) => r.id === id)?.label ?? id;
  const words = (rule: Rule) =>
    `${rule.roles.map(label).join(' + ')}: no two ${rule.must === false ? 'should' : 'may'} share a ${rule.by ?? 'host'}`;
  const keep = (rules: Rule[]) =>
    onedit([{ path: ['placement', 'separate'], value: rules } as unknown as Edit]);
  function add() {
    keep([...own, { roles, by, must }]);
    adding = false;
    roles = [];
  }
</script>

<Section title="Kept apart">
  {#if plan.separate_kit?.length || own.length}<ul>
      {#each plan.separate_kit ?? [] as rule, i (i)}<li>
          <span>{words(rule)}</span><span class="quiet">by the kit</span>
        </li>{/each}
      {#each own as rule, i (i)}<li>
          <span>{words(rule)}</span><button
            class="x"
            aria-label={`Remove: ${words(rule)}`}
            disabled={busy}
            onclick={() => keep(own.filter((_, n) => n !== i))}>×</button
          >
        </li>{/each}
    </ul>
  {:else if !adding}<p class="quiet">
      No rule beyond the roles' own. Racks and sites are failure domains too.
    </p>{/if}
  {#if adding}<form
      onsubmit={(e) => {
        e.preventDefault();
        if (roles.length) add();
      }}
    >
      <fieldset>
        <legend>Roles</legend>
        {#each plan.roles as role (role.id)}<label
            ><input type="checkbox" value={role.id} bind:group={roles} /> {role.label}</label
          >{/each}
      </fieldset>
      <label class="line"
        >No two share a <select bind:value={by}
          >{#each DOMAINS as one (one)}<option>{one}</option>{/each}</select
        ></label
      >
      <label class="line"
        >If that is not possible <select bind:value={must}
          ><option value={true}>stop</option><option value={false}>go on, and say so</option
          ></select
        ></label
      >
      <div class="acts">
        <Button kind="main" type="submit" disabled={busy || !roles.length}>Add rule</Button><Button
          onclick={() => {
            adding = false;
          }}>Cancel</Button
        >
      </div>
    </form>
  {:else}<Button
      kind="link"
      disabled={busy}
      onclick={() => {
        adding = true;
      }}>Add a rule</Button
    >{/if}
</Section>

<style>
  ul {
    list-style: none;
    margin: 0 0 6px;
    padding: 0;
    font-size: var(--text-s);
  }
  li {
    display: flex;
    justify-content: space-between;
    gap: 10px;
    padding: 2px 0;
  }
  .x {
    border: 0;
    background: none;
    color: var(--accent);
    cursor: pointer;
    min-width: 24px;
    min-height: 24px;
  }
  form {
    display: grid;
    gap: 6px;
    font-size: var(--text-s);
  }
  fieldset {
    border: 1px solid var(--line);
    margin: 0;
    padding: 4px 8px 6px;
    display: flex;
    flex-wrap: wrap;
    gap: 4px 14px;
  }
  legend {
    color: var(--muted);
  }
  .line {
    display: flex;
    justify-content: space-between;
    align-items: center;
    gap: 10px;
  }
  .line select {
    font-size: var(--text-s);
  }
  .acts {
    display: flex;
    gap: 8px;
  }
  p {
    font-size: var(--text-s);
    margin: 0 0 6px;
  }
</style>
