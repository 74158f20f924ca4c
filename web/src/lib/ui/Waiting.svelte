<script lang="ts">
  /** Shown while a page is fetched, and where it could not be. */
  let { failed = false }: { failed?: boolean } = $props();
</script>

<div class="waiting" role="status">
  {#if failed}<p>
      <b>This page could not be loaded.</b>
      <button onclick={() => location.reload()}>Reload</button>
    </p>{:else}<p class="quiet">Loading …</p>{/if}
</div>

<style>
  .waiting {
    padding: 24px;
  }
</style>
