<script lang="ts">
  /** A machine’s parts, as its controller reports them: processors, drives, ports, firmware. */
  import type { MachineView } from '../../lib/api/types';
  import { size } from '../../lib/format';

  let { facts: f }: { facts: MachineView['facts'] } = $props();
  function linkOf(nic: NonNullable<MachineView['facts']['nics']>[number]): string {
    if (nic.link === false) return 'no link';
    return nic.speed_mbit ? `${nic.speed_mbit / 1000} Gbit` : 'link not reported';
  }
</script>

<section>
  <h2>
    Chassis <span
      >{f.maker}
      {f.model} · serial {f.serial || '—'} · health {f.health || 'not reported'}</span
    >
  </h2>
  <div class="chassis">
    <div class="sockets">
      {#each f.processors ?? [] as p, i (i)}<div class="socket">
          <b>{p.cores}</b> cores<br /><span class="quiet">{p.threads} threads</span><br /><span
            class="quiet">{p.model}</span
          >
        </div>{/each}
    </div>
    <div class="bays">
      {#each f.drives ?? [] as d (d.name)}<div
          class="drive"
          class:worn={d.health && d.health !== 'OK'}
          title={`${d.name}: ${size(d.size_bytes ?? 0)} ${d.kind} ${d.protocol}, serial ${d.serial}, ${d.health || 'health not reported'}`}
        >
          <b>{size(d.size_bytes ?? 0)}</b><span>{d.kind} {d.protocol}</span><span
            >{d.health && d.health !== 'OK' ? d.health : d.name}</span
          >
        </div>{:else}<p class="quiet">Controller reports no drives.</p>{/each}
    </div>
  </div>
</section>
<div class="halves">
  <section>
    <h2>Network ports</h2>
    <ul>
      {#each f.nics ?? [] as n (n.name)}<li class="nic" class:down={n.link === false}>
          <i></i><span><b>{n.name}</b> <span class="mono quiet">{n.mac}</span></span><span
            class="mono">{linkOf(n)}</span
          >
        </li>{:else}<li class="quiet">not reported</li>{/each}
    </ul>
  </section>
  <section>
    <h2>Boot and media</h2>
    <dl>
      <dt>Boots from</dt>
      <dd>
        {f.boot_enabled && f.boot_enabled !== 'Disabled'
          ? `${f.boot_now}, ${f.boot_enabled.toLowerCase()}`
          : 'firmware boot order'}
      </dd>
      <dt>Can boot from</dt>
      <dd>{f.boot_options?.join(', ') || 'not reported'}</dd>
      {#each f.media ?? [] as m (m.id)}<dt>{m.id}</dt>
        <dd>{m.kinds?.join(', ')}: {m.inserted ? m.image : 'empty'}</dd>{/each}
    </dl>
  </section>
</div>
<section>
  <h2>Firmware</h2>
  <ul>
    {#each f.firmware ?? [] as w (w.name)}<li class="pair">
        <span>{w.name}</span><span class="mono">{w.version}</span>
      </li>{:else}<li class="quiet">not reported</li>{/each}
  </ul>
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
  .chassis {
    border: 1px solid var(--strong-line);
    background: var(--surface);
    padding: 12px;
    display: grid;
    gap: 12px;
  }
  .sockets {
    display: flex;
    gap: 12px;
  }
  .socket {
    border: 1px solid var(--strong-line);
    padding: 8px 14px;
    background: var(--sunk);
    font-size: var(--text-s);
    min-width: 150px;
  }
  .bays {
    display: flex;
    flex-wrap: wrap;
    gap: 6px;
  }
  .drive {
    border: 1px solid var(--strong-line);
    width: 82px;
    padding: 5px 7px;
    font-size: 11px;
    display: grid;
    background: var(--paper);
  }
  .drive b {
    font-size: var(--text-s);
  }
  .drive.worn {
    border: 2px solid var(--caution);
    color: var(--caution);
  }
  .halves {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 26px;
  }
  ul {
    list-style: none;
    margin: 0;
    padding: 0;
    font-size: var(--text-s);
  }
  .nic {
    display: grid;
    grid-template-columns: 14px 1fr auto;
    gap: 8px;
    padding: 2px 0;
    align-items: center;
  }
  .nic i {
    width: 12px;
    height: 10px;
    background: var(--soft);
  }
  .nic.down i {
    background: none;
    border: 1px dashed var(--blocker);
  }
  .pair {
    display: flex;
    justify-content: space-between;
    max-width: 320px;
    border-bottom: 1px solid var(--line);
    padding: 2px 0;
  }
</style>
