<script lang="ts">
  /** The disks of a machine, as the last inspection saw them, to be chosen by serial number. */
  import { size } from '../../lib/format';
  import { holdsText, type InsideDisk } from './inside';

  interface Props {
    disks: InsideDisk[];
    /** Serial numbers. */
    chosen: string[];
    /** Only one of them. */
    single?: boolean;
  }
  let { disks, chosen = $bindable(), single = false }: Props = $props();
  function choose(serial: string, on: boolean) {
    const others = single ? [] : chosen.filter((s) => s !== serial);
    chosen = on ? [...others, serial] : others;
  }
</script>

<ul>
  {#each disks as disk (disk.device)}<li>
      <label
        ><input
          type={single ? 'radio' : 'checkbox'}
          name="drive"
          disabled={!disk.serial}
          checked={chosen.includes(disk.serial ?? '')}
          onchange={(e) => {
            choose(disk.serial ?? '', e.currentTarget.checked);
          }}
        /><span
          ><b>{disk.device}</b>
          {size(disk.size_bytes ?? 0)}
          <span class="mono">{disk.serial || 'no serial number'}</span>
          <span class="quiet">{holdsText(disk) || 'blank'}</span></span
        ></label
      >
    </li>{/each}
</ul>

<style>
  ul {
    list-style: none;
    margin: 10px 0;
    padding: 0;
    max-height: 40vh;
    overflow: auto;
  }
  li {
    padding: 3px 0;
    border-bottom: 1px solid var(--line);
  }
  label {
    display: flex;
    gap: 8px;
    align-items: baseline;
  }
</style>
