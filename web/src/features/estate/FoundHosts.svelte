<script lang="ts">
  /** What was found at each address of the list: the key it presents, and whether the login works. */
  import type { LookView } from '../../lib/api/types';
  import Button from '../../lib/ui/Button.svelte';

  interface Props {
    looks: LookView[];
    /** By the entry’s place in the list: to be added, its name, and another login for it. */
    ticked: Record<number, boolean>;
    names: Record<number, string>;
    own: Record<number, { user: string; secret: string } | undefined>;
  }
  let { looks, ticked = $bindable(), names = $bindable(), own = $bindable() }: Props = $props();
  const WORD: Record<string, string> = {
    fine: 'login works',
    limited: 'rights are missing',
    refused: 'login failed',
    unreachable: 'unreachable',
    'unknown-name': 'name unknown',
    forbidden: 'outside allowed networks',
    'key-changed': 'key changed',
    known: 'already in estate',
  };
</script>

<div class="found">
  <table>
    <thead
      ><tr><td></td><th>Host or machine</th><th>Found</th><th>Key or certificate presented</th></tr
      ></thead
    ><tbody>
      {#each looks as l, i (i)}<tr data-outcome={l.outcome}
          ><td
            >{#if l.outcome === 'fine'}<input
                type="checkbox"
                bind:checked={ticked[i]}
                aria-label={`Add ${names[i]}`}
              />{/if}</td
          >
          <td
            >{#if l.outcome === 'fine'}<input
                class="name"
                bind:value={names[i]}
                aria-label="Name"
              />{:else}<b>{l.entry.name || l.entry.address}</b>{/if}<span class="mono quiet"
              >{l.address}{l.entry.kind === 'machine' ? ', machine' : ''}</span
            ></td
          >
          <td
            ><b>{WORD[l.outcome]}</b>{#if l.words}<span class="quiet">{l.words}</span
              >{:else if l.hostname}<span class="quiet"
                >{l.entry.kind === 'machine' ? l.hostname : `hostname ${l.hostname}`}</span
              >{/if}{#if l.outcome === 'refused' || l.outcome === 'limited' || own[i]}{#if own[i]}<span
                  class="own"
                  ><input
                    value={own[i]?.user}
                    oninput={(e) => {
                      own = { ...own, [i]: { ...own[i]!, user: e.currentTarget.value } };
                    }}
                    placeholder="user"
                    aria-label={`User of ${names[i]}`}
                  /><input
                    type="password"
                    value={own[i]?.secret}
                    oninput={(e) => {
                      own = { ...own, [i]: { ...own[i]!, secret: e.currentTarget.value } };
                    }}
                    placeholder="password"
                    autocomplete="off"
                    aria-label={`Password of ${names[i]}`}
                  /></span
                >{:else}<Button
                  kind="link"
                  onclick={() => {
                    own = { ...own, [i]: { user: l.entry.user || '', secret: '' } };
                  }}>use another login</Button
                >{/if}{/if}</td
          ><td class="mono fp">{l.fingerprint}</td></tr
        >{/each}
    </tbody>
  </table>
</div>

<style>
  input:not([type]),
  input[type='password'] {
    width: 100%;
  }
  .own {
    display: grid !important;
    grid-template-columns: 90px 1fr;
    gap: 6px;
    margin-top: 3px;
  }

  .found {
    max-height: 34vh;
    overflow: auto;
    border-block: 1px solid var(--strong-line);
  }
  table {
    border-collapse: collapse;
    width: 100%;
  }
  th {
    font-weight: 400;
    color: var(--muted);
    text-align: left;
    font-size: var(--text-s);
    padding: 4px 10px 4px 0;
  }
  td {
    padding: 5px 10px 5px 0;
    border-top: 1px solid var(--line);
    font-size: var(--text-s);
    vertical-align: top;
  }
  td span {
    display: block;
  }
  .fp {
    font-size: 11px;
    overflow-wrap: anywhere;
    width: 36%;
  }
  .name {
    font-weight: 600;
  }
  [data-outcome='refused'] td:nth-child(3) b,
  [data-outcome='unreachable'] td:nth-child(3) b,
  [data-outcome='key-changed'] td:nth-child(3) b {
    color: var(--blocker);
  }
</style>
