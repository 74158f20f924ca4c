<script lang="ts">
  /** One rule and what a bay decided about it: switched off with a reason, or a limit of its own. */
  import { ApiError, send } from '../../lib/api/client';
  import type { Body } from '../../lib/api/paths';
  import type { FitnessView } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';

  interface Props {
    rule: FitnessView['rules'][number];
    fitness: FitnessView;
    bays: string[];
    onchanged: (fitness: FitnessView) => void;
    onclose: () => void;
  }
  let { rule, fitness, bays, onchanged, onclose }: Props = $props();
  let decided = $derived((fitness.settings ?? []).filter((s) => s.rule === rule.id));
  // svelte-ignore state_referenced_locally
  let bay = $state(bays[0] ?? ''),
    off = $state(false),
    limit = $state(''),
    reason = $state(''),
    problem = $state('');
  async function put(body: Body<'put', '/estate/rules'>) {
    problem = '';
    try {
      onchanged(await send('PUT', '/estate/rules', body));
    } catch (error) {
      problem =
        error instanceof ApiError ? `${error.problem.detail} ${error.problem.hint}` : String(error);
    }
  }
  let broken = $derived(fitness.violations.filter((v) => v.rule === rule.id));
</script>

<Dialog title={rule.title} {onclose}>
  <p>
    {rule.why}
    <span class="quiet"
      >Source: {rule.measured}.{rule.limit != null
        ? ` Limit: ${rule.limit} ${rule.unit}.`
        : ''}</span
    >
  </p>
  {#if broken.length}<ul>
      {#each broken.slice(0, 6) as v, i (i)}<li>
          <b>{v.host}</b>
          {v.message}
        </li>{/each}{#if broken.length > 6}<li class="quiet">and {broken.length - 6} more</li>{/if}
    </ul>{:else}<p class="quiet">All hosts pass.</p>{/if}
  {#each decided as s (s.bay)}<p class="decided">
      <b>{s.bay}</b>: {s.off ? 'switched off' : `limit ${s.limit} ${rule.unit}`} — “{s.reason}” <Button
        kind="link"
        onclick={() => void put({ bay: s.bay, rule: rule.id, reason: 'default' })}
        >Reset to default</Button
      >
    </p>{/each}
  <form
    onsubmit={(e) => {
      e.preventDefault();
      void put({
        bay,
        rule: rule.id,
        off,
        limit: !off && limit !== '' ? Number(limit) : null,
        reason,
      });
    }}
  >
    <label
      >Bay <select bind:value={bay}
        >{#each bays as b (b)}<option value={b}>{b}</option>{/each}</select
      ></label
    >
    <label class="tick"><input type="checkbox" bind:checked={off} /> Disable in this bay</label>
    {#if rule.limit != null}<label
        >or set a limit, {rule.unit}
        <input
          type="number"
          step="any"
          bind:value={limit}
          aria-invalid={problem ? 'true' : undefined}
          aria-describedby={problem ? 'rule-problem' : undefined}
          disabled={off}
          placeholder={String(rule.limit)}
        /></label
      >{/if}
    <label class="reason"
      >Reason <input
        bind:value={reason}
        required
        maxlength="500"
        placeholder="why this bay differs; shown with the rule"
      /></label
    >
    <Button kind="main" type="submit" disabled={!reason || (!off && limit === '')}>Save</Button>
  </form>
  {#if problem}<p class="alarm" id="rule-problem" role="alert">{problem}</p>{/if}
</Dialog>

<style>
  ul {
    margin: 8px 0;
    padding-left: 18px;
    font-size: var(--text-s);
  }
  .decided {
    font-size: var(--text-s);
    margin: 6px 0;
  }
  form {
    display: grid;
    grid-template-columns: 1fr 1fr 1fr;
    gap: 8px 12px;
    align-items: end;
    border-top: 1px solid var(--line);
    padding-top: 10px;
    margin-top: 10px;
  }
  label {
    display: grid;
    gap: 2px;
    font-size: var(--text-s);
    color: var(--muted);
  }
  .tick {
    display: flex;
    gap: 6px;
    align-items: center;
    padding-bottom: 6px;
  }
  .reason {
    grid-column: span 2;
  }
  input:not([type='checkbox']),
  select {
    width: 100%;
  }
  .alarm {
    color: var(--blocker);
    font-size: var(--text-s);
    margin-top: 8px;
  }
</style>
