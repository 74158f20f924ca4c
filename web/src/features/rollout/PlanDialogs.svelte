<script lang="ts">
  /** What lies over a plan's page: one dialog at a time. */
  import type { PlanView } from '../../lib/api/types';
  import { router } from '../../lib/router.svelte';
  import Later from '../../lib/ui/Later.svelte';
  import { parts } from './parts';
  import type { Rollout } from './rollout.svelte';

  /** Which dialog is open; for secrets and certificates, of which cell. */
  export type Open =
    | { kind: 'licence' | 'tables' | 'text' | 'retire' | 'adopt' | 'former' }
    | { kind: 'kept'; node: string; column: string }
    | { kind: 'keys'; node: string; name: string }
    | { kind: 'removes'; node: string; lost?: string }
    | null;
  interface Props {
    rollout: Rollout;
    plan: PlanView;
    open: Open;
    onclose: () => void;
  }
  let { rollout, plan, open, onclose: close }: Props = $props();
  let products = $derived(
    [plan.package, ...plan.roles.filter((r) => r.count && r.package).map((r) => r.package)]
      .map((one) => one?.title)
      .join(' and '),
  );
  let cell = $derived(open?.kind === 'kept' ? open : null);
  let column = $derived(plan.columns.find((one) => one.id === cell?.column));
</script>

{#if open?.kind === 'licence'}<Later
    load={parts.licence}
    text={plan.licence_text}
    saved="Name, time and the text's SHA-256 are saved in the plan."
    product={products}
    onaccept={async (by) => {
      if (await rollout.licence(by)) close();
    }}
    onclose={close}
  />
{:else if open?.kind === 'tables'}<Later
    load={parts.tables}
    {plan}
    onedit={(e) => rollout.edit(e)}
    onclose={close}
  />
{:else if open?.kind === 'text'}<Later
    load={parts.planText}
    id={plan.id}
    version={plan.version}
    onsaved={() => {
      close();
      void rollout.load();
    }}
    onclose={close}
  />
{:else if open?.kind === 'retire'}<Later
    load={parts.retire}
    plan={plan.id}
    onbegun={() => {
      close();
      void rollout.load();
    }}
    onclose={close}
  />
{:else if open?.kind === 'keys'}<Later
    load={parts.nodeKeys}
    plan={plan.id}
    node={open.node}
    name={open.name}
    onclose={close}
  />
{:else if open?.kind === 'former'}<Later load={parts.former} plan={plan.id} onclose={close} />
{:else if open?.kind === 'adopt'}<Later
    load={parts.adopt}
    plan={plan.id}
    onbegun={async () => {
      close();
      await rollout.load();
      router.go(`/plans/${plan.id}/run`);
    }}
    onfound={() => void rollout.load()}
    onclose={close}
  />
{:else if open?.kind === 'removes'}<Later
    load={parts.removes}
    {plan}
    again={open.node}
    lost={open.lost ?? ''}
    onagree={async (remove: string[]) => {
      const { node, lost } = open?.kind === 'removes' ? open : {};
      close();
      const wanted = lost ? { lost: [lost] } : { again: node ? [node] : [], remove };
      if (await rollout.start(wanted)) router.go(`/plans/${plan.id}/run`);
    }}
    onclose={close}
  />
{:else if cell && column?.kind === 'certificate'}<Later
    load={parts.pairBox}
    label={column.label}
    plan={plan.id}
    column={cell.column}
    node={cell.node}
    onkeep={async (certificate, key) => {
      const wrong = await rollout.pair(cell.node, cell.column, certificate, key);
      if (!wrong) close();
      return wrong;
    }}
    onclose={close}
  />
{:else if cell && column}<Later
    load={parts.secretBox}
    label={column.label}
    limits={column.limits}
    onmake={() => rollout.make(cell.column)}
    onkeep={async (value) => {
      if (await rollout.secret(cell.node, cell.column, value)) close();
    }}
    onclose={close}
  />{/if}
{#if rollout.clash}<Later
    load={parts.clash}
    {plan}
    clash={rollout.clash}
    onsettle={(mine) => rollout.settle(mine)}
  />{/if}
