<script lang="ts" generics="P extends object">
  /** A part of a page that is fetched when it is first shown. `load` is always the same function. */
  import type { Component } from 'svelte';
  import Waiting from './Waiting.svelte';
  let { load, ...rest }: { load: () => Promise<{ default: Component<P> }> } & P = $props();
  let given = $derived(rest as unknown as P);
</script>

{#await load()}<Waiting />{:then { default: Part }}<Part {...given} />{:catch}<Waiting
    failed
  />{/await}
