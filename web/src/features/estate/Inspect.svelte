<script lang="ts">
  /** Inspecting machines: which ones, what speaks against it, and the restart of those that are on. */
  import type { MachineView } from '../../lib/api/types';
  import { ago, count } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import { Request } from './request.svelte';

  interface Props {
    machines: MachineView[];
    now: number;
    chosen?: string[];
    onclose: () => void;
  }
  let { machines, now, chosen = [], onclose }: Props = $props();
  // svelte-ignore state_referenced_locally
  let ticked = $state<Record<string, boolean>>(
    Object.fromEntries(
      machines.map((m) => [
        m.machine.name,
        chosen.length
          ? chosen.includes(m.machine.name)
          : m.facts.power === 'Off' &&
            !m.facts.inside &&
            ((m.facts.media ?? []).length > 0 || m.machine.boots === 'network'),
      ]),
    ),
  );
  let typed = $state<Record<string, string>>({});
  let names = $derived(machines.map((m) => m.machine.name).filter((n) => ticked[n]));
  const request = new Request(() =>
    names.length
      ? {
          actions: names.map((host) => ({
            kind: 'inspect' as const,
            host,
            confirmed: typed[host] ?? '',
          })),
        }
      : null,
  );
  let refused = $derived(names.filter((name) => request.refusals(name).length));
  let ready = $derived(names.length > 0 && request.preview !== null && !refused.length);
  let wait = $derived.by(() => {
    if (!names.length) return 'Choose machines.';
    return refused.length ? `Cannot be inspected: ${refused.join(', ')}.` : '';
  });
</script>

<Dialog title={names.length === 1 ? `Inspect ${names[0]}` : 'Inspect machines'} {onclose}>
  <p class="quiet">
    Each machine boots once from a small system, reports its interfaces and disks, and is left as it
    was found. About 1 minute, up to 5 on real hardware. Nothing on its disks changes.
  </p>
  <ul>
    {#each machines as m (m.machine.name)}
      {@const name = m.machine.name}
      <li>
        <label
          ><input type="checkbox" bind:checked={ticked[name]} /><b>{name}</b>
          <span class="quiet"
            >{m.facts.power?.toLowerCase() || 'power unknown'} · {m.facts.inside
              ? `inspected ${ago(now - (m.facts.inside.read_at ?? 0))}`
              : 'never inspected'}</span
          ></label
        >
        {#if ticked[name]}
          {#if m.facts.power && m.facts.power !== 'Off'}<label class="confirm"
              >It is on and is restarted. Type its name to confirm.
              <input class="mono" bind:value={typed[name]} autocomplete="off" /></label
            >{/if}
          {#each request
            .refusals(name)
            .filter((text) => !text.startsWith('it is on')) as text (text)}<p
              class="alarm"
              role="alert"
            >
              {text}
            </p>{/each}
        {/if}
      </li>
    {/each}
  </ul>
  {#if request.problem}<p class="alarm" role="alert">{request.problem}</p>{/if}
  <div class="acts">
    <span class="quiet" role="status">{wait}</span>
    <Button onclick={onclose}>Cancel</Button><Button
      kind="main"
      disabled={!ready || request.busy}
      onclick={() => void request.go(onclose)}
      >{request.busy ? 'Starting …' : `Inspect ${count(names.length, 'machine')}`}</Button
    >
  </div>
</Dialog>

<style>
  ul {
    list-style: none;
    margin: 10px 0;
    padding: 0;
    max-height: 46vh;
    overflow: auto;
  }
  li {
    padding: 4px 0;
    border-bottom: 1px solid var(--line);
  }
  label {
    display: flex;
    gap: 8px;
    align-items: baseline;
  }
  .confirm {
    display: grid;
    gap: 2px;
    margin: 4px 0 4px 22px;
    font-size: var(--text-s);
  }
  .alarm {
    color: var(--blocker);
    margin: 2px 0 2px 22px;
    font-size: var(--text-s);
  }
  .acts {
    display: flex;
    align-items: baseline;
    gap: 8px;
  }
  .acts span {
    flex: 1;
    font-size: var(--text-s);
  }
</style>
