<script lang="ts">
  /** Beginning a plan: name, kit, bay, and the packages its nodes are made from. */
  import { get, send } from '../../lib/api/client';
  import type { KitLine, RoleChoices } from '../../lib/api/types';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import { choiceLabel } from './choices';

  interface Props {
    kits: KitLine[];
    bays: string[];
    kit: string;
    bay: string;
  }
  let { kits, bays, kit = $bindable(), bay = $bindable() }: Props = $props();
  let name = $state('');
  let roles = $state.raw<RoleChoices[]>([]);
  let chosen = $state<Record<string, string>>({});
  let field: HTMLInputElement | undefined = $state();
  let busy = $state(false);

  $effect(() => field?.focus());
  $effect(() => {
    const asked = kit;
    if (!asked) return;
    get(`/kits/${asked}/packages`)
      .then((found) => {
        if (asked !== kit) return;
        roles = found;
        chosen = Object.fromEntries(found.map((one) => [one.role, one.usual]));
      })
      .catch((e: unknown) => notices.problem(e));
  });

  async function make() {
    busy = true;
    try {
      const made = await send('POST', '/plans', { name, kit, bay, packages: chosen });
      router.go(`/plans/${made.id}`);
    } catch (error) {
      notices.problem(error);
    } finally {
      busy = false;
    }
  }
</script>

<form
  onsubmit={(e) => {
    e.preventDefault();
    void make();
  }}
>
  <label
    >Name <input
      bind:this={field}
      bind:value={name}
      required
      pattern="[a-z0-9][a-z0-9\-]*"
      maxlength="40"
      placeholder="ness-gauges"
      title="lower-case letters, digits and dashes"
    /></label
  >
  <label
    >Kit <select bind:value={kit}
      >{#each kits as k (k.id)}<option value={k.id}>{k.title}</option>{/each}</select
    ></label
  >
  <label
    >Bay <select bind:value={bay}
      >{#each bays as b (b)}<option>{b}</option>{/each}</select
    ></label
  >
  {#each roles as one (one.role)}
    <label
      >{one.role ? `Package of ${one.label}` : 'Package'}
      <select bind:value={chosen[one.role]}>
        {#each one.choices as choice (choice.title)}<option value={choice.title}
            >{choiceLabel(choice)}</option
          >{/each}
        {#if !one.usual}<option value=""
            >{one.choices.length ? 'choose later' : 'no package imported'}</option
          >{/if}
      </select></label
    >
  {/each}
  <Button type="submit" kind="main" disabled={busy}>Create plan</Button>
  <span class="quiet">{kits.find((k) => k.id === kit)?.summary}</span>
</form>

<style>
  form {
    display: flex;
    gap: 14px 18px;
    align-items: end;
    flex-wrap: wrap;
    padding: 12px 0;
    border-bottom: 1px solid var(--line);
  }
  label {
    display: grid;
    gap: 3px;
    font-size: var(--text-s);
    color: var(--muted);
  }
  input,
  select {
    max-width: 320px;
  }
</style>
