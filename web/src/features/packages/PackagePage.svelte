<script lang="ts">
  import { get, send } from '../../lib/api/client';
  import type { PackageView } from '../../lib/api/types';
  import { middle, moment, size, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import HeadBar from '../../lib/ui/HeadBar.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import Section from '../ledger/Section.svelte';
  import Licence from '../../lib/ui/Licence.svelte';
  import PackageFiles from './PackageFiles.svelte';
  import PackageHardware from './PackageHardware.svelte';
  import PackageIdentity from './PackageIdentity.svelte';
  import PackageImage from './PackageImage.svelte';
  import PackageImages from './PackageImages.svelte';
  import PackageLabel from './PackageLabel.svelte';
  import PackageSettings from './PackageSettings.svelte';
  import PackageVersions from './PackageVersions.svelte';
  import SizeTable from './SizeTable.svelte';
  import { KIND, mark, SIGNED, WHOLE } from './trustwords';

  interface Props {
    sha: string;
    onchange: () => void;
  }
  let { sha, onchange }: Props = $props();
  let one = $state.raw<PackageView | null>(null);
  let missing = $state(''),
    lang = $state(''),
    reading = $state(false),
    removing = $state(false);

  const show = (found: PackageView) => {
    one = found;
  };
  $effect(() => {
    get(`/packages/${sha}${lang ? `?lang=${encodeURIComponent(lang)}` : ''}`)
      .then(show)
      .catch((e: unknown) => {
        if (!one) missing = e instanceof Error ? e.message : String(e);
        else notices.problem(e);
      });
  });
  async function change(work: (place: `/packages/${string}`) => Promise<PackageView>) {
    try {
      show(await work(`/packages/${one!.sha256}`));
      onchange();
      return true;
    } catch (e) {
      notices.problem(e);
      return false;
    }
  }
  async function clear() {
    try {
      const done = await send('DELETE', `/packages/${one!.sha256}/copies`);
      if (done.kept.length) notices.say('Some cached images stay', done.kept.join('; '));
      show(await get(`/packages/${one!.sha256}`));
    } catch (e) {
      notices.problem(e);
    }
  }
  async function remove() {
    try {
      await send('DELETE', `/packages/${one!.sha256}`);
      removing = false;
      onchange();
      router.go('/packages');
    } catch (e) {
      removing = false;
      notices.problem(e);
    }
  }
</script>

{#if missing}<div class="empty">
    <h1>This package is not here. {missing}</h1>
    <a href="/packages">All packages</a>
  </div>
{:else if one}
  {@const { languages, language, licence_text } = one}
  <HeadBar>
    <h1>
      <StateMark state={mark(one.manifest, one.signature)} size={17} />
      <b>{one.product} {one.version}</b>{one.vendor ? ` by ${one.vendor}` : ''}: {KIND[one.kind]}, {WHOLE[
        one.manifest
      ]}, {SIGNED[one.signature]}.
    </h1>
    <p class="quiet">
      {#if one.unusable}A plan cannot deploy it: {one.unusable}{:else if one.kits.length}deployable
        by kit {one.kits.join(
          ', ',
        )}{:else}{one.lacks}{/if}{#if one.full_bytes}{' · a node’s disks: '}<span class="mono"
          >{size(one.thin_bytes)}</span
        >{' thin, '}<span class="mono">{size(one.full_bytes)}</span>{' full'}{/if}
    </p>
    {#snippet acts()}
      <Button onclick={() => router.go('/packages')}>All packages</Button
      >{#if languages.length > 1}<label class="lang"
          >Texts in <select bind:value={lang}
            ><option value="">{language}</option
            >{#each languages.filter((l) => l !== language) as l (l)}<option value={l}>{l}</option
              >{/each}</select
          ></label
        >{/if}{#if licence_text}<Button
          onclick={() => {
            reading = true;
          }}>Read the licence</Button
        >{/if}
    {/snippet}
  </HeadBar>
  <PackageVersions {one} />
  <div class="body">
    <div class="middle">
      {#if one.sizes.length}<Section
          title="Sizes"
          aside={one.full_bytes ? `${size(one.thin_bytes)} copied once to each datastore` : ''}
          ><SizeTable sizes={one.sizes} thin={one.thin_bytes} full={one.full_bytes} /></Section
        >{/if}
      {#if ['qcow2', 'vmdk', 'raw'].includes(one.kind)}<PackageImage {one} />{/if}
      <PackageHardware {one} />
      {#if one.questions.length}<PackageSettings {one} />{/if}
    </div>
    <aside aria-label="Details">
      {#if one.findings.length}<Section title="Findings" aside={String(one.findings.length)}
          ><ul>
            {#each one.findings as f, i (i)}<li class="finding">
                <Weight severity={f.severity as 'note'} /><span
                  >{f.message}<span class="quiet where"
                    >{f.where}{f.clause ? ` · ${f.clause}` : ''}</span
                  ></span
                >
              </li>{/each}
          </ul></Section
        >{/if}
      <PackageIdentity {one} />
      <PackageLabel
        {one}
        onsave={(channel, note, product, version) =>
          void change((place) => send('PATCH', place, { channel, note, product, version }))}
      />
      <PackageFiles {one} />
      {#if one.kind !== 'iso'}<PackageImages {one} onclear={() => void clear()} />{/if}
      {#if one.annotation}<Section title="The publisher adds"
          ><p class="pre">{one.annotation}</p></Section
        >{/if}
      <Section title="Licence"
        >{#if one.licence_text}<p>
            {#each one.accepted as a (a.by + a.plan)}accepted by <b>{a.by}</b>{a.plan
                ? ` for plan ${a.plan}`
                : ''}, <span title={utc(a.at)}>{moment(a.at)}</span><br />{:else}not accepted yet; a
              plan can also accept it{/each}
          </p>
          <Button
            kind="link"
            onclick={() => {
              reading = true;
            }}>Read the licence{one.accepted.some((a) => !a.plan) ? '' : ' and accept'}</Button
          >{:else}<p class="quiet">The package has no licence text.</p>{/if}</Section
      >
      <Button
        kind="danger"
        onclick={() => {
          removing = true;
        }}>Remove {one.product} {middle(one.version, 12)}</Button
      >
    </aside>
  </div>
  {#if reading}<Licence
      text={one.licence_text}
      product={`${one.product} ${one.version}`}
      saved="Name, time and the text's SHA-256 are saved; this counts for every plan with this text."
      onaccept={(by) =>
        void change((place) => send('POST', `${place}/accept`, { by })).then((fine) => {
          if (fine) reading = false;
        })}
      onclose={() => {
        reading = false;
      }}
    />{/if}
  {#if removing}<Dialog
      title={`Remove ${one.product} ${one.version}`}
      onclose={() => {
        removing = false;
      }}
      ><p>
        Its {size(one.size)} are removed from this server’s store. Plans and runs that need it keep it
        from being removed.
      </p>
      <p class="two">
        <Button kind="danger" onclick={() => void remove()}
          >Remove {one.product} {one.version}</Button
        ><Button
          onclick={() => {
            removing = false;
          }}>Cancel</Button
        >
      </p></Dialog
    >{/if}
{/if}

<style>
  .lang {
    font-size: var(--text-s);
  }

  .body {
    display: grid;
    grid-template-columns: minmax(0, 1fr) 316px;
    flex: 1;
    min-height: 0;
  }
  .middle {
    padding: 12px 24px 20px 0;
    overflow: auto;
  }
  aside {
    border-left: 1px solid var(--line);
    padding: 12px 0 20px 18px;
    overflow: auto;
  }
  p {
    font-size: var(--text-s);
  }
  .pre {
    white-space: pre-wrap;
  }
  ul {
    list-style: none;
    margin: 0 0 8px;
    padding: 0;
    font-size: var(--text-s);
    display: grid;
    gap: 3px;
  }
  li {
    display: flex;
    gap: 8px;
    align-items: baseline;
  }
  .where {
    display: block;
    font-size: var(--text-xs);
    overflow-wrap: anywhere;
  }
  .two {
    display: flex;
    gap: 10px;
    margin-top: 12px;
  }
  .empty {
    padding: 40px 0;
  }
</style>
