<script lang="ts">
  /** A host's processors and memory, and the VMs that have it. */
  import type { OneHost } from '../../lib/api/types';
  import { size } from '../../lib/format';

  let { one }: { one: OneHost } = $props();
  let f = $derived(one.facts);
  let running = $derived(f.guests?.filter((g) => g.running) ?? []);
  let used = $derived(running.reduce((sum, g) => sum + (g.memory_bytes ?? 0), 0));
  let room = $derived(one.room_bytes);
  let sockets = $derived(
    Array.from({ length: f.sockets ?? 0 }, (_, i) => ({
      i,
      cores: Math.max(1, Math.round((f.cores ?? 0) / (f.sockets ?? 1))),
    })),
  );
</script>

<section>
  <h2>
    Compute <span
      >{f.cpu_model} · {f.sockets} × {sockets[0]?.cores ?? 0} cores, {f.threads} threads · {f.virtualization ||
        'virtualization not reported'} · {f.domain_type === 'kvm'
        ? 'VMs run under KVM'
        : 'VMs run in emulation'}{one.vm_processor
        ? ` · VMs get ${one.vm_processor}, the newest that all hosts of ${one.host.bay} have`
        : ''}</span
    >
  </h2>
  <div class="sockets">
    {#each sockets as s (s.i)}<div class="socket">
        <div class="cores">
          {#each Array.from({ length: Math.min(96, s.cores) }, (_, c) => c) as c (c)}<i></i>{/each}
        </div>
        {#if f.numa?.[s.i]}<p class="mono">
            {size(f.numa[s.i]!.memory_bytes)}, {f.numa[s.i]!.threads} threads
          </p>{/if}
      </div>{/each}
    <div class="memory">
      <div class="strip">
        {#each running as g (g.name)}<span
            class="guest"
            class:ours={g.mark}
            style:flex-grow={(g.memory_bytes ?? 0) / 2 ** 28}
            title={`${g.name}: ${size(g.memory_bytes ?? 0)}, ${g.vcpu} vCPU`}>{g.name}</span
          >{/each}<span class="free" style:flex-grow={Math.max(0, f.memory_bytes! - used) / 2 ** 28}
        ></span>
      </div>
      <p class="mono">
        {size(used)} of {size(f.memory_bytes ?? 0)} allocated to VMs, {size(room)} more available{f.swap_used_bytes
          ? ` · ${size(f.swap_used_bytes)} swapped`
          : ''} · {size(f.memory_free_bytes ?? 0)} free as reported by the host
      </p>
    </div>
  </div>
</section>

<style>
  section {
    margin-bottom: 18px;
  }
  h2 {
    font-size: var(--text-m);
    font-weight: 600;
    margin-bottom: 6px;
  }
  h2 span {
    font-weight: 400;
    color: var(--muted);
    font-size: var(--text-s);
    margin-left: 10px;
  }
  .sockets {
    display: flex;
    gap: 12px;
    align-items: stretch;
  }
  .socket {
    border: 1px solid var(--strong-line);
    padding: 6px 7px 3px;
    background: var(--surface);
  }
  .cores {
    display: grid;
    grid-template-columns: repeat(8, 8px);
    gap: 2px;
  }
  .cores i {
    width: 8px;
    height: 8px;
    background: var(--rock);
  }
  .socket p,
  .memory p {
    font-size: 10.5px;
    color: var(--muted);
    margin-top: 4px;
  }
  .memory {
    flex: 1;
    min-width: 0;
  }
  .strip {
    display: flex;
    height: 38px;
    border: 1px solid var(--strong-line);
    background: var(--surface);
  }
  .guest {
    background: var(--rock);
    color: var(--rock-ink);
    border-right: 1px solid var(--paper);
    font-size: 11px;
    padding: 3px 5px;
    overflow: hidden;
    text-overflow: ellipsis;
    white-space: nowrap;
    flex-basis: 0;
    min-width: 3px;
  }
  .guest.ours {
    background: var(--role-1);
    color: var(--on-role);
  }
  .free {
    flex-basis: 0;
  }
</style>
