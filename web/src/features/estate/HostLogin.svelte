<script lang="ts">
  /** The login of hosts that are added, and the place of those that the list gives none. */
  import type { NewLogin } from './adding';

  interface Props {
    login: NewLogin;
    /** Names of keyring entries. */
    known: string[];
    sites: string[];
    bays: string[];
  }
  let { login = $bindable(), known, sites, bays }: Props = $props();
</script>

<div class="login">
  <label>User <input bind:value={login.user} /></label><label
    >Keyring entry <input
      bind:value={login.credential}
      list="entries"
      placeholder="name for this login"
    /></label
  ><datalist id="entries"
    >{#each known as n (n)}<option value={n}></option>{/each}</datalist
  >
  <label
    >{known.includes(login.credential) ? 'New value (blank: unchanged)' : 'Its value'}
    {#if login.kind === 'key'}<textarea
        bind:value={login.secret}
        rows="1"
        class="mono"
        placeholder="private key"></textarea>{:else}<input
        bind:value={login.secret}
        type="password"
        autocomplete="off"
      />{/if}</label
  >
  <label
    >Kind <select bind:value={login.kind}
      ><option value="password">password</option><option value="key">private key</option></select
    ></label
  >
  <label>Site <input bind:value={login.site} list="sites" placeholder="if not in the list" /></label
  ><datalist id="sites"
    >{#each sites as n (n)}<option value={n}></option>{/each}</datalist
  >
  <label>Bay <input bind:value={login.bay} list="bays" placeholder="if not in the list" /></label
  ><datalist id="bays"
    >{#each bays as n (n)}<option value={n}></option>{/each}</datalist
  >
</div>

<style>
  label {
    display: grid;
    gap: 2px;
    font-size: var(--text-s);
    color: var(--muted);
  }
  input:not([type]),
  input[type='password'],
  textarea,
  select {
    width: 100%;
  }
  .login {
    display: grid;
    grid-template-columns: 90px 1fr 1.2fr 110px;
    gap: 8px 12px;
    align-items: end;
    margin-bottom: 12px;
  }
</style>
