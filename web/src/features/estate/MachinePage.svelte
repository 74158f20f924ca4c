<script lang="ts">
  /** One bare machine, as its management controller tells it, and its power. */

  import { ago, count, size, utc } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import HeadBar from '../../lib/ui/HeadBar.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import Section from '../ledger/Section.svelte';
  import type { EstateData } from './estate.svelte';
  import MachineChassis from './MachineChassis.svelte';
  import MachineBoot from './MachineBoot.svelte';
  import MachineController from './MachineController.svelte';
  import Settings from './Settings.svelte';
  import MachinePower from './MachinePower.svelte';
  import Copy from '../../lib/ui/Copy.svelte';
  import Later from '../../lib/ui/Later.svelte';
  import { parts } from './parts';

  interface Props {
    name: string;
    data: EstateData;
  }
  let { name, data }: Props = $props();
  let one = $derived(data.view?.machines.find((m) => m.machine.name === name));
  let f = $derived(one?.facts);
  let mine = $derived(data.fitness?.violations.filter((v) => v.host === name) ?? []);
  let inspecting = $state(false);
  let age = $derived(data.view && f?.read_at ? data.view.now - f.read_at : 0);
  let threads = $derived(f?.processors?.reduce((sum, p) => sum + (p.threads ?? 0), 0) ?? 0);
  let raw = $derived(f?.drives?.reduce((sum, d) => sum + (d.size_bytes ?? 0), 0) ?? 0);
</script>

{#if one && f}
  <div class="page">
    <HeadBar>
      <p class="crumb">
        <a href="/estate">Estate</a> · {one.machine.site} · {one.machine.bay}{one.machine.rack
          ? ` · rack ${one.machine.rack}`
          : ''} ·
        <span class="mono">{one.machine.address}</span><Copy
          text={one.machine.address}
          what={`address of ${name}`}
        />
      </p>
      <h1>
        {f.trouble
          ? `The controller of ${name} was not read: ${f.trouble}`
          : `${name} ${one.lives ? `carries ${one.lives.name}` : 'is bare metal'}, power ${f.power?.toLowerCase() || 'unknown'}.`}
        {#if !f.trouble}<b>{f.memory_bytes ? size(f.memory_bytes) : 'memory not reported'}</b>, {threads}
          threads, {f.drives?.length
            ? `${count(f.drives.length, 'drive')} of ${size(raw)} raw`
            : 'drives not reported'}.{/if}
      </h1>
      <p class="quiet" class:old={age > 86400 || f.trouble} title={utc(f.read_at ?? 0)}>
        {f.read_at ? `read ${ago(age)}` : 'never updated'} · Redfish {f.redfish || '—'}{f.missing
          ?.length
          ? ` · not reported by the controller: ${f.missing.join(', ')}`
          : ''}
      </p>
      {#snippet acts()}
        <Button
          onclick={() => {
            inspecting = true;
          }}>Inspect …</Button
        ><Button disabled={data.busy !== ''} onclick={() => void data.read([name])}
          >{data.busy.startsWith('reading') ? 'Refreshing …' : 'Refresh'}</Button
        >
      {/snippet}
    </HeadBar>
    <div class="body">
      <div class="draw" class:faded={age > 86400 || f.trouble}>
        <MachineChassis facts={f} />
        {#if f.inside}<Later load={parts.inside} {name} facts={f} now={data.view?.now ?? 0} />{/if}
      </div>
      <aside aria-label="Details">
        {#if one.lives}<Section title="Node on this machine"
            ><dl>
              <dt>Node</dt>
              <dd>
                <a href={`/plans/${one.lives.plan}/run?run=${one.lives.run}`}
                  >{one.lives.name} of plan {one.lives.plan}</a
                >
              </dd>
              {#if one.lives.host}<dt>Host</dt>
                <dd><a href={`/estate/hosts/${one.lives.host}`}>{one.lives.host}</a></dd>{/if}
            </dl></Section
          >{/if}
        <MachinePower {name} facts={f} {data} />
        <MachineBoot {one} {data} />
        {#if mine.length}<Section title="Readiness" aside={count(mine.length, 'rule')}
            ><ul>
              {#each mine as v, i (i)}<li class="fit">
                  <Weight severity={v.severity} /><span
                    >{v.message}{#if v.remedy}<span class="quiet remedy">{v.remedy}</span
                      >{/if}</span
                  >
                </li>{/each}
            </ul></Section
          >{/if}
        {#if f.changes?.length}<Section
            title="Changed"
            aside={data.view ? `since ${ago(data.view.now - (f.changed_since ?? 0))}` : ''}
            ><ul>
              {#each f.changes as c, i (i)}<li><b>{c.what}</b> {c.was} → {c.now}</li>{/each}
            </ul></Section
          >{/if}
        <MachineController {one} {data} />
        <Settings thing={one.machine} kind="machines" {data} />
      </aside>
    </div>
  </div>
  {#if inspecting}<Later
      load={parts.inspect}
      machines={[one]}
      now={data.view?.now ?? 0}
      chosen={[name]}
      onclose={() => {
        inspecting = false;
      }}
    />{/if}
{:else if data.view}<div class="empty">
    <h1>The estate has no machine “{name}”.</h1>
    <a href="/estate">The estate</a>
  </div>{/if}

<style>
  .page {
    display: flex;
    flex-direction: column;
    height: 100%;
    padding: 0 20px;
    min-height: 0;
  }
  .old {
    color: var(--caution);
    font-weight: 600;
  }
  .body {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 316px;
    flex: 1;
    min-height: 0;
  }
  .draw {
    overflow: auto;
    padding: 10px 18px 20px 0;
  }
  .faded {
    opacity: 0.75;
  }
  aside {
    border-left: 1px solid var(--line);
    padding: 10px 0 20px 18px;
    overflow: auto;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
    font-size: var(--text-s);
  }
  .fit {
    display: flex;
    gap: 8px;
    padding: 2px 0;
  }
  .remedy {
    display: block;
  }
  .empty {
    padding: 60px 20px;
  }
</style>
