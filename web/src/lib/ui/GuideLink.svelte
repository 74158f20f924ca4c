<script lang="ts">
  /** To where the guide explains what stands beside it. */
  let { to, about }: { to: string; about: string } = $props();
</script>

<a href={`/help/${to}`} title={`Guide: ${about}`} aria-label={`Guide: ${about}`}>?</a>

<style>
  a {
    display: inline-block;
    min-width: 24px;
    min-height: 24px;
    line-height: 24px;
    text-align: center;
    color: var(--muted);
    text-decoration: none;
    font-size: var(--text-xs);
    font-weight: 400;
  }
  a:hover {
    color: var(--accent);
    text-decoration: underline;
  }
  @media print {
    a {
      display: none;
    }
  }
</style>
