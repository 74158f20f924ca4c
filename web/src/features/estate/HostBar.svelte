<script lang="ts">
  /** A host in a sentence, how old that is, and what can be done. */
  import type { Action, OneHost } from '../../lib/api/types';
  import { ago, count, size, span, utc } from '../../lib/format';
  import Button from '../../lib/ui/Button.svelte';
  import HeadBar from '../../lib/ui/HeadBar.svelte';
  import Copy from '../../lib/ui/Copy.svelte';
  import type { EstateData } from './estate.svelte';

  interface Props {
    one: OneHost;
    data: EstateData;
    onprepare: (actions: Action[], hosts: string[]) => void;
  }
  let { one, data, onprepare }: Props = $props();
  let f = $derived(one.facts),
    name = $derived(one.host.name),
    room = $derived(one.room_bytes);
  let age = $derived(f.read_at ? one.now - f.read_at : 0);
  let heavy = $derived(one.violations.filter((v) => v.severity !== 'note'));
  let mendable = $derived(one.violations.flatMap((v) => (v.action ? [v.action] : [])));
  let sentence = $derived.by(() => {
    if (f.trouble) return `${name} is unreachable: ${f.trouble}`;
    return heavy.length ? `${name} breaks ${count(heavy.length, 'rule')}.` : `${name} is ready.`;
  });
  const up = (seconds: number) =>
    seconds > 172800 ? `${Math.floor(seconds / 86400)} days` : span(seconds);
</script>

<HeadBar>
  <p class="crumb">
    <a href="/estate">Estate</a> · {one.host.site} · {one.host.bay}{one.host.rack
      ? ` · rack ${one.host.rack}`
      : ''} ·
    <span class="mono">{one.host.address}</span><Copy
      text={one.host.address}
      what={`address of ${name}`}
    />
  </p>
  <h1>
    {sentence}
    {#if !f.trouble}<b
        title="Below the limit and not used by running VMs; the hypervisor keeps the rest"
        >{size(room)}</b
      >
      memory available for VMs, {f.threads} threads.{/if}
  </h1>
  <p class:old={age > 86400 || f.trouble} class="quiet" title={utc(f.read_at ?? 0)}>
    {f.read_at ? `read ${ago(age)}` : 'never updated'}{f.trouble && f.tried_at
      ? `, tried ${ago(one.now - f.tried_at)}; what follows is the last that is known`
      : ''}{f.uptime_s ? ` · up ${up(f.uptime_s)}` : ''}{f.load
      ? ` · load ${f.load.toFixed(2)}`
      : ''}
  </p>
  {#snippet acts()}
    {#if mendable.length}<Button kind="main" onclick={() => onprepare(mendable, [name])}
        >Fix {count(mendable.length, 'rule')}</Button
      >{/if}<Button onclick={() => onprepare([], [name])}>Prepare …</Button><Button
      disabled={data.busy !== ''}
      onclick={() => void data.read([name])}
      >{data.busy.startsWith('reading') ? 'Refreshing …' : 'Refresh'}</Button
    >
  {/snippet}
</HeadBar>

<style>
  .old {
    color: var(--caution);
    font-weight: 600;
  }
</style>
