<script lang="ts">
  /** An estate without hosts and machines: what to do first. */
  import Button from '../../lib/ui/Button.svelte';

  let { onadd, networks }: { onadd: () => void; networks: number } = $props();
</script>

<div class="empty">
  <h1>No hosts yet.</h1>
  <ol>
    <li>
      <b>Networks and pools.</b> Say which networks hosts have, and from which ranges addresses are
      assigned.
      {networks ? `${networks} described so far. ` : ''}<a href="/estate?see=networks">Networks</a>
      · <a href="/estate?see=pools">Pools</a>
    </li>
    <li>
      <b>Hosts and machines.</b> Paste or load a list of hypervisor hosts and management
      controllers, or scan a range of addresses; check them, compare their keys, and add those whose
      login works.
      <p><Button kind="main" onclick={onadd}>Add hosts and machines</Button></p>
    </li>
  </ol>
  <p class="quiet">
    All of it can also come from a file: <code class="mono">nimble-stone estate load FILE</code>
  </p>
</div>

<style>
  .empty {
    padding: 50px 20px;
    max-width: 860px;
  }
  li {
    margin: 12px 0;
  }
  li p {
    margin: 10px 0;
  }
</style>
