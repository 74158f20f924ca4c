<script lang="ts">
  import type { Edit, PackageChoice, PlanView } from '../../lib/api/types';
  interface Props {
    plan: PlanView;
    shared: string[];
    onedit: (edits: Edit[]) => void;
    ontry: (edits: Edit[] | null) => void;
    onlicence: () => void;
    ontext: () => void;
  }
  let { plan, shared, onedit, ontry, onlicence, ontext }: Props = $props();
  let more = $derived(shared.filter((name) => !plan.include?.includes(name)));
  const include = (names: string[]) =>
    onedit([{ path: ['include'], value: names } as unknown as Edit]);
  let others = $derived(
    plan.bays.filter((bay) => bay !== plan.bay && !plan.further_bays?.includes(bay)),
  );
  const further = (bays: string[]) =>
    onedit([{ path: ['further_bays'], value: bays } as unknown as Edit]);
  const count = (role: string, n: number) => onedit([{ path: ['roles', role, 'count'], value: n }]);
  /** The number that stood in a field when typing in it began. */
  let was = '';
  const whole = (typed: string) =>
    /^\d{1,4}$/.test(typed.trim()) && Number(typed) <= 2000 ? Number(typed) : null;
  const choose = (path: string[], value: string) => {
    if (value) onedit([{ path, value }]);
  };
  const sizeOf = (role: string) => {
    const all = new Set(
      plan.nodes.filter((n) => n.role === role).map((n) => n.cells['size']?.value ?? ''),
    );
    return all.size === 1 ? [...all][0] : '';
  };
  const short = (bytes: number) => `${Math.round(bytes / 2 ** 30) || '<1'} GiB`;
</script>

<div class="block">
  <div><span class="what">Kit</span>{plan.kit_title}</div>
  <div>{@render pack(plan.package, ['package'], 'Package')}</div>
  <div>
    <label class="what" for="bay">Bay</label>
    <select
      id="bay"
      value={plan.bay}
      onchange={(e) => onedit([{ path: ['bay'], value: e.currentTarget.value }])}
      >{#if !plan.bay}<option value="">choose</option>{/if}{#each plan.bays as bay (bay)}<option
          >{bay}</option
        >{/each}</select
    >
    {#each plan.further_bays ?? [] as bay (bay)}<span class="chip"
        >{bay}<button
          class="link"
          aria-label={`Leave ${bay} out`}
          onclick={() => further((plan.further_bays ?? []).filter((one) => one !== bay))}>×</button
        ></span
      >{/each}{#if plan.bay && others.length}<select
        aria-label="Use a further bay"
        value=""
        onchange={(e) => {
          const bay = e.currentTarget.value;
          e.currentTarget.value = '';
          if (bay) further([...(plan.further_bays ?? []), bay]);
        }}
        ><option value="">and …</option>{#each others as bay (bay)}<option>{bay}</option
          >{/each}</select
      >{/if}
  </div>
  {#each plan.roles as role, i (role.id)}
    <div class="role">
      <i style:background={`var(--role-${i % 5})`}></i><span class="what">{role.label}</span>
      {#if role.least === role.most}<b>{role.count}</b>{:else}<button
          aria-label={`One ${role.label} less`}
          disabled={role.count <= role.least}
          onclick={() => count(role.id, role.count - 1)}>−</button
        >
        <input
          aria-label={`Number of ${role.label} nodes`}
          value={role.count}
          oninput={(e) => {
            const n = whole(e.currentTarget.value);
            ontry(n === null ? null : [{ path: ['roles', role.id, 'count'], value: n }]);
          }}
          onfocus={(e) => {
            was = e.currentTarget.value;
          }}
          onkeydown={(e) => {
            if (e.key === 'Escape') {
              ontry(null);
              e.currentTarget.value = was;
              e.currentTarget.blur();
            }
            if (e.key === 'Enter') e.currentTarget.blur();
          }}
          onchange={(e) => {
            const n = whole(e.currentTarget.value);
            if (n !== null && String(n) !== was) count(role.id, n);
            else {
              ontry(null);
              e.currentTarget.value = was;
            }
          }}
        />
        <button
          aria-label={`One ${role.label} more`}
          disabled={role.count >= role.most}
          onclick={() => count(role.id, role.count + 1)}>+</button
        >{/if}
      {#if role.carried}<span class="what">of them</span>{:else if role.count}<select
          aria-label={`Size of ${role.label}`}
          value={sizeOf(role.id)}
          onchange={(e) =>
            onedit([{ path: ['roles', role.id, 'values', 'size'], value: e.currentTarget.value }])}
        >
          {#if !sizeOf(role.id)}<option value="">mixed</option
            >{/if}{#each role.sizes ?? [] as s (s.id)}<option value={s.id}
              >{s.label}, {s.vcpu} vCPU, {short(s.memory_bytes)}</option
            >{/each}</select
        >{/if}
      <span class="what">{role.sizes?.find((s) => s.id === sizeOf(role.id))?.carries ?? ''}</span>
      {#if role.package && role.count}{@render pack(
          role.package,
          ['roles', role.id, 'package'],
          `Package of ${role.label}`,
          'from',
        )}{/if}
    </div>
  {/each}
  {#if plan.include?.length || more.length}<div>
      <span class="what">Shared values</span>{#each plan.include ?? [] as name (name)}<span
          class="chip"
          ><a href={`/plans?see=values&name=${encodeURIComponent(name)}`}>{name}</a><button
            class="link"
            aria-label={`Remove ${name}`}
            onclick={() => include((plan.include ?? []).filter((one) => one !== name))}>×</button
          ></span
        >{/each}
      {#if more.length}<select
          aria-label="Include shared values"
          value=""
          onchange={(e) => {
            const name = e.currentTarget.value;
            e.currentTarget.value = '';
            if (name) include([...(plan.include ?? []), name]);
          }}
          ><option value="">{plan.include?.length ? 'and …' : 'include …'}</option
          >{#each more as name (name)}<option>{name}</option>{/each}</select
        >{/if}
    </div>{/if}
  <div class="end">
    {#if plan.licence_text}<button class="link" onclick={onlicence}
        >{plan.licence_by
          ? `licence accepted by ${plan.licence_by}`
          : 'licence not accepted'}</button
      >{/if}<button class="link" onclick={ontext}>plan file</button>
  </div>
</div>

{#snippet pack(choice: PackageChoice, path: string[], label: string, word = 'Package')}
  {#if choice.sha256}<a class="what" href={`/packages/${choice.sha256}`} title="Show package"
      >{word}</a
    >{:else}<span class="what">{word}</span>{/if}
  {#if choice.fitting.length || choice.title}<select
      class="pack"
      aria-label={label}
      value={choice.sha256 ? choice.title : ''}
      onchange={(e) => choose(path, e.currentTarget.value)}
    >
      {#if !choice.sha256}<option value=""
          >{choice.title ? `${choice.title}: not imported` : 'choose'}</option
        >{/if}{#each choice.fitting as one (one)}<option>{one}</option>{/each}</select
    >
  {:else}<a href="/packages">import one</a>{/if}
{/snippet}

<style>
  .block {
    display: flex;
    gap: 4px 22px;
    align-items: center;
    flex-wrap: wrap;
    padding: 5px 0 7px;
    font-size: var(--text-s);
  }
  .block > div {
    display: flex;
    align-items: center;
    gap: 7px;
    white-space: nowrap;
  }
  .what {
    color: var(--muted);
  }
  i {
    width: 5px;
    height: 15px;
  }
  select {
    border: 0;
    border-bottom: 1px solid var(--strong-line);
    background: none;
    padding: 1px 2px;
    max-width: 168px;
    cursor: pointer;
    border-radius: 0;
  }
  .chip {
    border: 1px solid var(--line);
    padding: 0 5px 0 7px;
  }
  .chip .link {
    text-decoration: none;
    margin-left: 4px;
  }
  .pack {
    max-width: 190px;
  }
  a.what {
    text-decoration: underline;
    text-underline-offset: 3px;
    text-decoration-color: var(--strong-line);
  }
  option {
    background: var(--surface);
    color: var(--ink);
  }
  input {
    width: 38px;
    text-align: center;
    border: 0;
    border-bottom: 1px solid var(--strong-line);
    background: none;
    padding: 1px;
    border-radius: 0;
  }
  button:not(.link) {
    width: 21px;
    height: 21px;
    line-height: 1;
    border: 1px solid var(--strong-line);
    background: var(--surface);
    border-radius: var(--radius);
    cursor: pointer;
  }
  button:disabled {
    opacity: 0.4;
  }
  .link {
    border: 0;
    background: none;
    color: var(--accent);
    text-decoration: underline;
    text-underline-offset: 3px;
    cursor: pointer;
    padding: 0;
  }
  .end {
    margin-left: auto;
    gap: 16px !important;
  }
</style>
