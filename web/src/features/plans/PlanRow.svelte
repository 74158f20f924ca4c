<script lang="ts">
  /** A plan in the list. Its title is changed where it stands. */
  import { send } from '../../lib/api/client';
  import type { PlanLine } from '../../lib/api/types';
  import { ago, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import { isOpen, MARKS } from '../overview/overview';
  import { stateOf } from './list';

  interface Props {
    plan: PlanLine;
    copies: boolean;
    ticks: boolean;
    ticked: boolean;
    onpick: (on: boolean) => void;
    oncopy: () => void;
    ondelete: () => void;
    onrenamed: () => void;
  }
  let { plan, copies, ticks, ticked, onpick, oncopy, ondelete, onrenamed }: Props = $props();
  let title = $state<string | null>(null);
  let field: HTMLInputElement | undefined = $state();
  let blocked = $derived((!plan.run || plan.run.state === 'undone') && Boolean(plan.blockers));
  $effect(() => {
    field?.focus();
    field?.select();
  });
  async function rename() {
    const typed = title?.trim() ?? '';
    title = null;
    if (!typed || typed === plan.title) return;
    try {
      const edits = [{ path: ['title'], value: typed }];
      await send('PATCH', `/plans/${plan.id}`, { version: plan.version, edits });
    } catch (error) {
      notices.problem(error);
    }
    onrenamed();
  }
</script>

<tr>
  {#if ticks}<td
      ><input
        type="checkbox"
        aria-label={`Select ${plan.title}`}
        checked={ticked}
        onchange={(e) => onpick(e.currentTarget.checked)}
      /></td
    >{/if}
  <th scope="row"
    >{#if title !== null}<input
        bind:this={field}
        bind:value={title}
        maxlength="120"
        aria-label={`Title of ${plan.id}`}
        onkeydown={(e) => {
          if (e.key === 'Enter') void rename();
          if (e.key === 'Escape') title = null;
        }}
        onblur={() => void rename()}
      />{:else}<a href={`/plans/${plan.id}${plan.run && isOpen(plan.run) ? '/run' : ''}`}
        >{plan.title}</a
      >{/if}<span class="mono quiet">{plan.id}</span></th
  ><td
    >{#if blocked}<Weight severity="blocker" />{:else}<StateMark
        state={MARKS[plan.run?.state ?? ''] ?? 'planned'}
        label=""
      />{/if}
    {stateOf(plan)}</td
  ><td>{plan.kit}</td><td>{plan.bay}</td><td class="mono">{plan.nodes}</td><td
    class="quiet"
    title={utc(plan.changed_at)}>{ago(Date.now() / 1000 - plan.changed_at)}</td
  ><td class="more"
    ><Button
      kind="link"
      onclick={() => {
        title = plan.title;
      }}>Rename</Button
    >{#if copies}<Button kind="link" onclick={oncopy}>Copy to another bay …</Button>{/if}<Button
      kind="link"
      onclick={ondelete}>Delete …</Button
    ></td
  >
</tr>

<style>
  th,
  td {
    text-align: left;
    padding: 9px 12px 9px 0;
    border-bottom: 1px solid var(--line);
    font-weight: 400;
  }
  a {
    font-weight: 600;
    margin-right: 12px;
  }
  th input {
    border: 1px solid var(--accent);
    background: var(--surface);
    padding: 2px 6px;
    margin-right: 12px;
  }
  .more {
    text-align: right;
    font-size: var(--text-s);
    white-space: nowrap;
  }
  .more > :global(* + *) {
    margin-left: 12px;
  }
</style>
