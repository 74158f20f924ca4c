<script lang="ts">
  /** Problems and news at the foot of the page, until they are dismissed. */
  import { notices } from '../../lib/notices.svelte';
  import GuideLink from '../../lib/ui/GuideLink.svelte';
</script>

<div class="notices" aria-live="assertive">
  {#each notices.list as n (n.id)}<div class="notice">
      <div>
        <b>{n.problem.title}.</b>
        {n.problem.detail} <span class="quiet">{n.problem.hint}</span>
        {#if n.problem.status >= 400 && n.problem.code !== 'error'}<GuideLink
            to={`errors#${n.problem.code}`}
            about={n.problem.code}
          />{/if}
      </div>
      <button onclick={() => notices.drop(n.id)}>Dismiss</button>
    </div>{/each}
</div>

<style>
  .notices {
    position: fixed;
    left: 20px;
    bottom: 16px;
    right: 356px;
    display: flex;
    flex-direction: column;
    gap: 8px;
    z-index: 20;
  }
  @media (max-width: 900px) {
    .notices {
      right: 20px;
    }
  }
  .notice {
    display: flex;
    gap: 18px;
    justify-content: space-between;
    align-items: flex-start;
    background: var(--surface);
    border: 1px solid var(--blocker);
    border-left-width: 5px;
    padding: 9px 14px;
  }
  button {
    border: 0;
    background: none;
    color: var(--accent);
    cursor: pointer;
    text-decoration: underline;
  }
</style>
