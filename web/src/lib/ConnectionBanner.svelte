<script lang="ts">
  /** Says that the server is silent, or cannot store; nothing else on the page is from now then. */
  import { connection } from './connection.svelte';
  import { clock, zone } from './format';
</script>

{#if connection.lostAt !== null}
  <p class="banner" role="alert">
    <b>No connection to the server since {clock(connection.lostAt / 1000)} {zone()}.</b>
    The page shows that moment. Reconnecting …
  </p>
{:else if connection.trouble}
  <p class="banner" role="alert"><b>The server cannot store.</b> {connection.trouble}</p>
{/if}

<style>
  .banner {
    margin: 0;
    padding: 6px 20px;
    background: var(--ink);
    color: var(--paper);
    font-size: var(--text-s);
    flex: none;
  }
</style>
