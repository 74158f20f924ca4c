<script lang="ts">
  /** What is to be known about a host: rules it breaks, what changed, who it is. */
  import { send } from '../../lib/api/client';
  import type { Action, OneHost } from '../../lib/api/types';
  import { ago, count } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import Copy from '../../lib/ui/Copy.svelte';
  import GuideLink from '../../lib/ui/GuideLink.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import Section from '../ledger/Section.svelte';
  import type { EstateData } from './estate.svelte';

  interface Props {
    one: OneHost;
    data: EstateData;
    onprepare: (actions: Action[], hosts: string[]) => void;
  }
  let { one, data, onprepare }: Props = $props();
  let f = $derived(one.facts),
    name = $derived(one.host.name);
  let heavy = $derived(one.violations.filter((v) => v.severity !== 'note'));
  let notes = $derived(one.violations.length - heavy.length);
  let clock = $derived.by(() => {
    if (!f.time) return '—';
    const offset = f.time.offset_s ?? 0,
      source = f.time.source || 'no source';
    const far = Math.abs(offset) >= 0.05 + (f.time.uncertain_s ?? 0);
    const words = `${Math.abs(offset).toFixed(2)} s ${offset > 0 ? 'ahead' : 'behind'}`;
    return `${far ? words : 'in sync'}, follows ${source}`;
  });
</script>

{#if one.violations.length}<Section
    title="Readiness"
    aside={`${heavy.length} broken${notes ? `, ${count(notes, 'note')}` : ''}`}
    ><ul class="fit">
      {#each one.violations as v, i (i)}<li>
          <Weight severity={v.severity} /><GuideLink
            to={`host-rules#${v.rule}`}
            about={v.rule}
          /><span
            >{v.message}{#if v.remedy}<span class="quiet remedy"
                >{#if v.action}<Button kind="link" onclick={() => onprepare([v.action!], [name])}
                    >{v.remedy}</Button
                  >{:else}{v.remedy}{/if}</span
              >{/if}</span
          >
        </li>{/each}
    </ul></Section
  >{/if}
{#if f.changes?.length}<Section
    title="Changed"
    aside={`since ${ago(one.now - (f.changed_since ?? 0))}`}
    ><ul class="changes">
      {#each f.changes as c, i (i)}<li>
          <b>{c.what}</b>
          {c.was}{c.was && c.now ? ' → ' : ''}{c.now}
        </li>{/each}
    </ul></Section
  >{/if}
{#if one.host.origin}{@const from = one.host.origin}<Section title="Built here"
    ><dl>
      <dt>Node</dt>
      <dd>
        <a href={`/plans/${from.plan}/run?run=${from.run}`}>{name} of plan {from.plan}</a>
      </dd>
      <dt>Machine</dt>
      <dd><a href={`/estate/machines/${from.machine}`}>{from.machine}</a></dd>
    </dl></Section
  >{/if}
<Section title="Identity"
  ><dl>
    <dt>System</dt>
    <dd>{f.os || '—'}, kernel {f.kernel || '—'}</dd>
    <dt>Hypervisor</dt>
    <dd>{f.hypervisor || '—'}</dd>
    <dt>Hostname</dt>
    <dd>{f.hostname || '—'}</dd>
    <dt>Time</dt>
    <dd>{clock}</dd>
    <dt>DNS servers</dt>
    <dd>{f.resolvers?.join(', ') || '—'}</dd>
    <dt>Login</dt>
    <dd>{one.host.user}, keyring entry “{one.host.credential}”</dd>
    <dt>Host key</dt>
    <dd class="mono">
      {one.fingerprint || 'not seen yet'}{#if one.fingerprint}<Copy
          text={one.fingerprint}
          what={`host key of ${name}`}
        />{/if}
    </dd>
  </dl>
  {#if one.fingerprint && f.trouble_code === 'host-key-changed'}<p class="alarm">
      Compare the key on the host’s own console first.
    </p>
    <Button
      kind="danger"
      onclick={() =>
        void data.work('forgetting', () => send('DELETE', `/estate/hosts/${name}/pin`))}
      >Unpin host key</Button
    >{/if}
  {#if f.unread?.length}<ul class="changes">
      {#each f.unread as u (u)}<li class="quiet">not read: {u}</li>{/each}
    </ul>{/if}</Section
>

<style>
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
  }
  .fit li {
    display: flex;
    gap: 8px;
    font-size: var(--text-s);
    padding: 2px 0;
  }
  .fit :global(svg) {
    margin-top: 3px;
  }
  .remedy {
    display: block;
  }
  .changes li {
    font-size: var(--text-s);
    padding: 1px 0;
  }
  .alarm {
    color: var(--blocker);
    font-size: var(--text-s);
    margin: 4px 0;
  }
  dl {
    --label: 82px;
  }
</style>
