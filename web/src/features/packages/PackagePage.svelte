<script lang="ts">
  import { get, send } from '../../lib/api/client';
  import type { PackageView } from '../../lib/api/types';
  import { count, middle, moment, size, utc } from '../../lib/format';
  import { notices } from '../../lib/notices.svelte';
  import { router } from '../../lib/router.svelte';
  import Button from '../../lib/ui/Button.svelte';
  import HeadBar from '../../lib/ui/HeadBar.svelte';
  import Dialog from '../../lib/ui/Dialog.svelte';
  import StateMark from '../../lib/ui/StateMark.svelte';
  import Weight from '../../lib/ui/Weight.svelte';
  import Section from '../ledger/Section.svelte';
  import HardwareDrawing from './HardwareDrawing.svelte';
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
    removing = $state(false),
    by = $state(''),
    channel = $state(''),
    note = $state('');
  const show = (found: PackageView) => {
    one = found;
    channel = found.channel;
    note = found.note;
  };
  $effect(() => {
    get(`/packages/${sha}${lang ? `?lang=${encodeURIComponent(lang)}` : ''}`)
      .then(show)
      .catch((e: unknown) => {
        if (!one) missing = e instanceof Error ? e.message : String(e);
        else notices.problem(e);
      });
  });
  let groups = $derived([...new Set(one?.questions.filter((q) => q.asked).map((q) => q.category))]);
  let fixed = $derived(one?.questions.filter((q) => !q.asked) ?? []);
  let plan = $derived(one?.plans[0] ?? '');
  let differences = $derived(
    one?.differences.filter((d) => d.outcome !== 'kept' || d.weight !== 'note') ?? [],
  );
  const WORD: Record<string, string> = {
    kept: 'as described',
    mapped: 'becomes',
    dropped: 'is left out',
    added: 'is added',
  };
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
      {#if one.unusable}A plan cannot deploy it: {one.unusable}{:else if one.kits.length}supported
        by kit {one.kits.join(', ')}{:else}No kit supports this package{/if}{#if one.full_bytes}{' · a node’s disks: '}<span
          class="mono">{size(one.thin_bytes)}</span
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
  <div class="strip" aria-label="Versions">
    {#each one.versions as v (v.sha256)}<span class="version" data-current={v.current}
        >{#if v.current}<b>{v.version}</b>{:else}<a href={`/packages/${v.sha256}`}
            >{middle(v.version, 18)}</a
          >{/if}{#if v.channel}<i>{v.channel}</i>{/if}<span class="quiet"
          >{v.plans.length ? v.plans.join(', ') : 'no plan'}{v.nodes
            ? `, ${count(v.nodes, 'node')} deployed`
            : ''}</span
        >{#if !v.current}<a
            class="diff"
            href={`/packages/compare?old=${(v.added_at < one.added_at ? v : one).sha256.slice(0, 16)}&new=${(v.added_at < one.added_at ? one : v).sha256.slice(0, 16)}`}
            >compare</a
          >{/if}</span
      >{/each}
  </div>
  <div class="body">
    <div class="middle">
      {#if one.sizes.length}<Section
          title="Sizes"
          aside={one.full_bytes ? `${size(one.thin_bytes)} copied once to each datastore` : ''}
          ><SizeTable sizes={one.sizes} thin={one.thin_bytes} full={one.full_bytes} /></Section
        >{/if}
      {#if one.systems.length > 1}<Section
          title="Virtual systems"
          aside={String(one.systems.length)}
          ><table>
            <tbody
              >{#each one.systems as s (s.id)}<tr
                  ><th scope="row">{s.name}</th><td>{s.os}</td><td class="mono r">{s.vcpu} vCPU</td
                  ><td class="mono r">{size(s.memory_bytes)}</td><td class="mono r"
                    >{count(s.disks, 'disk')}</td
                  ><td>{s.starts ? `starts ${s.starts}` : ''}</td></tr
                >{/each}</tbody
            >
          </table></Section
        >{/if}
      {#if one.iso['label'] !== undefined}<Section title="Installer image"
          ><p>
            Volume <b>{one.iso['label']}</b>, {size(one.size)}, starts by {one.iso['starts']}.
          </p></Section
        >{/if}
      {#if one.kernel}<Section title="Kernel"><p class="mono">{one.kernel}</p></Section>{/if}
      {#if one.nics.length || one.disks.length}<Section
          title="VM, disks and networks"
          aside={one.nics.length
            ? count(one.nics.length, 'interface')
            : count(one.disks.length, 'disk')}
          ><HardwareDrawing {one} />
          {#if differences.length}<table class="adapt">
              <tbody
                >{#each differences as d, i (i)}<tr
                    ><td class="w"><Weight severity={d.weight as 'note'} /></td><th scope="row"
                      >{d.device}</th
                    ><td>{d.was || '—'}</td><td class="quiet">{WORD[d.outcome]}</td><td
                      >{d.becomes || '—'}</td
                    ><td class="quiet">{d.why}</td></tr
                  >{/each}</tbody
              >
            </table>{/if}</Section
        >{/if}
      {#if one.questions.length}<Section
          title="Settings"
          aside={`${one.questions.length - fixed.length} asked, ${fixed.length} fixed`}
        >
          {#each groups as g (g)}<h3>{g || 'General'}</h3>
            <table>
              <tbody
                >{#each one.questions.filter((q) => q.asked && q.category === g) as q (q.key)}<tr
                    ><th scope="row" title={q.key}>{q.label}</th><td>{q.description}</td><td
                      class="quiet">{q.rule}</td
                    ><td class="answered"
                      >{#if q.answered}{#if plan}<a href={`/plans/${plan}`}
                            >{q.answered} in {plan}</a
                          >{:else}<span class="quiet">column {q.answered}</span>{/if}{:else}<span
                          class="quiet">own column</span
                        >{/if}</td
                    ></tr
                  >{/each}</tbody
              >
            </table>{/each}
          {#if fixed.length}<details>
              <summary>{count(fixed.length, 'value')} fixed by the publisher</summary>
              <table>
                <tbody
                  >{#each fixed as q (q.key)}<tr
                      ><th scope="row" class="mono">{q.key}</th><td class="mono"
                        >{q.secret ? '••••' : q.default}</td
                      ><td class="quiet">{q.rule}</td></tr
                    >{/each}</tbody
                >
              </table>
            </details>{/if}
        </Section>{/if}
    </div>
    <aside aria-label="Ledger">
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
      <Section title="Identity"
        ><dl>
          <dt>File</dt>
          <dd>{one.file_name}, {size(one.size)}</dd>
          <dt>Imported</dt>
          <dd title={utc(one.added_at)}>{moment(one.added_at)}</dd>
          <dt>SHA-256</dt>
          <dd class="mono">{one.sha256}</dd>
          <dt>Manifest</dt>
          <dd>
            {one.manifest === 'absent' ? 'none' : `${one.manifest}, ${one.algorithm.toUpperCase()}`}
          </dd>
          <dt>Signature</dt>
          <dd>
            {SIGNED[one.signature]}{#if one.signer}<br />{one.signer.subject}<br /><span
                class="quiet"
                >by {one.signer.issuer}; {new Date(
                  one.signer.not_before * 1000,
                ).toLocaleDateString()} to {new Date(
                  one.signer.not_after * 1000,
                ).toLocaleDateString()}</span
              ><br /><span class="mono fp">{one.signer.fingerprint}</span
              >{/if}{#if one.signature_note && one.signature !== 'verified'}<br /><span
                class="quiet">{one.signature_note}</span
              >{/if}
          </dd>
          <dt>Plans</dt>
          <dd>
            {#each one.plans as p, i (p)}{i ? ', ' : ''}<a href={`/plans/${p}`}>{p}</a>{:else}none
              yet{/each}
          </dd>
        </dl></Section
      >
      <Section title="Channel and note"
        ><form
          onsubmit={(e) => {
            e.preventDefault();
            void change((place) => send('PATCH', place, { channel, note }));
          }}
        >
          <label
            >Channel <input
              bind:value={channel}
              list="channels"
              maxlength="40"
              placeholder="none"
            /></label
          ><datalist id="channels"
            ><option value="stable"></option><option value="candidate"></option></datalist
          >
          <label
            >Note <textarea
              bind:value={note}
              rows="2"
              maxlength="4000"
              placeholder="what the team should know"></textarea></label
          >
          {#if channel !== one.channel || note !== one.note}<Button kind="main" type="submit"
              >Save</Button
            >{/if}
        </form></Section
      >
      <Section title="Contents" aside={size(one.files.reduce((sum, f) => sum + f.size, 0))}
        ><ul>
          {#each one.files.slice(0, 200) as f (f.name)}<li title={f.sha256}>
              {#if /\.(mf|cert)$/i.test(f.name)}<i class="gap"></i>{:else}<StateMark
                  state={f.state === 'verified' ? 'proved' : 'planned'}
                  size={13}
                />{/if}<span>{middle(f.name, 28)}</span><span class="mono end">{size(f.size)}</span>
            </li>{/each}
        </ul>
        <p class="quiet">filled: digest verified · outline: not in manifest</p></Section
      >
      <Section title="Cached images" aside={String(one.copies.length)}
        >{#if one.copies.length}<ul>
            {#each one.copies as c (c.place + c.name)}<li title={c.name}>
                <span
                  >{c.datastore}<span class="quiet where"
                    >{c.used_by.length ? c.used_by.join(', ') : 'unused'} · last {moment(
                      c.used_at,
                    )}</span
                  ></span
                ><span class="mono end">{size(c.size)}</span>
              </li>{/each}
          </ul>
          <Button onclick={() => void clear()}>Delete unused images</Button>{:else}<p class="quiet">
            None. A run copies the image once per datastore and creates the nodes from it.
          </p>{/if}</Section
      >
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
  {#if reading}<Dialog
      title={`Licence of ${one.product} ${one.version}`}
      wide
      onclose={() => {
        reading = false;
      }}
    >
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <pre tabindex="0">{one.licence_text}</pre>
      <form
        class="accept"
        onsubmit={(e) => {
          e.preventDefault();
          void change((place) => send('POST', `${place}/accept`, { by })).then((fine) => {
            if (fine) reading = false;
          });
        }}
      >
        <label
          >Accepted by <input
            bind:value={by}
            required
            minlength="2"
            maxlength="120"
            placeholder="your name"
          /></label
        ><Button kind="main" type="submit" disabled={by.trim().length < 2}>Accept licence</Button>
      </form>
      <p class="quiet">
        Name, time and the text's SHA-256 are saved; this counts for every plan with this text.
      </p></Dialog
    >{/if}
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
  select {
    background: var(--surface);
    border: 1px solid var(--strong-line);
    border-radius: var(--radius);
    padding: 3px 6px;
  }
  .strip {
    display: flex;
    gap: 4px 26px;
    flex-wrap: wrap;
    padding: 5px 0;
    border-bottom: 1px solid var(--line);
    font-size: var(--text-s);
  }
  .version {
    display: flex;
    gap: 8px;
    align-items: baseline;
    padding: 1px 0 1px 9px;
    border-left: 4px solid var(--rock);
  }
  .version[data-current='true'] {
    border-color: var(--accent);
  }
  .version i {
    font-style: normal;
    font-size: var(--text-xs);
    border: 1px solid var(--strong-line);
    border-radius: var(--radius);
    padding: 0 5px;
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
  table {
    border-collapse: collapse;
    width: 100%;
  }
  td,
  th {
    padding: 4px 12px 4px 0;
    text-align: left;
    vertical-align: top;
    font-size: var(--text-s);
    border-bottom: 1px solid var(--line);
  }
  th {
    font-weight: 600;
  }
  .r {
    text-align: right;
    white-space: nowrap;
  }
  .adapt {
    margin-top: 10px;
  }
  .w {
    width: 20px;
    padding-top: 7px;
  }
  .answered {
    text-align: right;
    white-space: nowrap;
  }
  h3 {
    font-size: var(--text-s);
    color: var(--muted);
    margin: 8px 0 2px;
  }
  p {
    font-size: var(--text-s);
  }
  .pre {
    white-space: pre-wrap;
  }
  dl {
    display: grid;
    grid-template-columns: 66px 1fr;
    gap: 4px 10px;
    margin: 0;
    font-size: var(--text-s);
  }
  dt {
    color: var(--muted);
  }
  dd {
    margin: 0;
    overflow-wrap: anywhere;
  }
  .gap {
    width: 13px;
    flex: none;
  }
  .fp {
    font-size: 10.5px;
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
  .end {
    margin-left: auto;
    white-space: nowrap;
  }
  .where {
    display: block;
    font-size: var(--text-xs);
    overflow-wrap: anywhere;
  }
  form {
    display: grid;
    gap: 8px;
    justify-items: start;
  }
  form label {
    display: grid;
    gap: 2px;
    width: 100%;
    font-size: var(--text-s);
    color: var(--muted);
  }
  input,
  textarea {
    padding: 4px 8px;
    border: 1px solid var(--strong-line);
    background: var(--surface);
    border-radius: var(--radius);
    color: var(--ink);
    resize: vertical;
  }
  pre {
    white-space: pre-wrap;
    font: var(--text-m)/1.5 var(--sans);
    max-height: 46vh;
    overflow: auto;
    border: 1px solid var(--line);
    padding: 12px 16px;
    margin: 0 0 14px;
    background: var(--paper);
  }
  .accept {
    display: flex;
    align-items: end;
    margin-bottom: 8px;
  }
  .two {
    display: flex;
    gap: 10px;
    margin-top: 12px;
  }
  summary {
    cursor: pointer;
    font-size: var(--text-s);
    color: var(--accent);
    margin-top: 8px;
  }
  .empty {
    padding: 40px 0;
  }
</style>
