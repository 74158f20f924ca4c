<script lang="ts">
  /** A kit, read as a person would. */
  import type { KitAbout } from '../../lib/api/types';
  import Section from '../ledger/Section.svelte';
  import KitOrder from './KitOrder.svelte';

  let { about }: { about: KitAbout } = $props();
</script>

<section class="order" aria-label="Order">
  <KitOrder order={about.order} />
</section>
<div class="columns">
  <Section title="Roles" aside={String(about.roles.length)}>
    <dl>
      {#each about.roles as role (role.id)}<dt>{role.label}</dt>
        <dd>{role.words}</dd>{/each}
      <dt>Package</dt>
      <dd>{about.takes}</dd>
      <dt>Access</dt>
      <dd>{about.speaks}</dd>
    </dl>
  </Section>
  <Section title="Acceptance checks" aside={String(about.checks.length)}>
    <dl>
      {#each about.checks as one, n (n)}<dt>{one.label}</dt>
        <dd class="mono">{one.words}</dd>{/each}
    </dl>
  </Section>
  <Section title="Settings" aside={String(about.questions.length)}>
    {#if !about.questions.length}<p class="quiet">The kit asks nothing.</p>{/if}
    <dl>
      {#each about.questions as one, n (n)}<dt>{one.label}</dt>
        <dd>{one.words || 'text'}</dd>{/each}
    </dl>
    {#if about.systems.length}<h3>Systems outside the plan</h3>
      <dl>
        {#each about.systems as one, n (n)}<dt>{one.label}</dt>
          <dd>{one.words}</dd>{/each}
      </dl>{/if}
    {#if about.ports.length}<h3>Ports</h3>
      <dl>
        {#each about.ports as one, n (n)}<dt class="mono">{one.label}</dt>
          <dd>{one.words}</dd>{/each}
      </dl>{/if}
  </Section>
</div>

<style>
  .order {
    padding: 10px 0 4px;
  }
  .columns {
    display: grid;
    grid-template-columns: repeat(auto-fit, minmax(300px, 1fr));
    gap: 0 34px;
    align-items: start;
  }
  dl {
    --label: 130px;
  }
  dd {
    overflow-wrap: anywhere;
  }
  h3 {
    font-size: var(--text-s);
    margin: 12px 0 4px;
  }
</style>
