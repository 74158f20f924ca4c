/** The docs that ship with the page, made into HTML when it is built; each is fetched when opened. */

export const texts = import.meta.glob<string>('../../../../docs/*.md', {
  query: '?html',
  import: 'default',
});

/** In the order of the work. */
export const ORDER: [string, string][] = [
  ['guide', 'Guide'],
  ['packages', 'Packages'],
  ['estate', 'Estate'],
  ['metal', 'Bare machines'],
  ['installers', 'Installers'],
  ['plans', 'Plans'],
  ['kits', 'Kits'],
  ['findings', 'Findings'],
  ['host-rules', 'Host rules'],
  ['errors', 'Errors'],
  ['glossary', 'Glossary'],
  ['operation', 'Operation'],
  ['security', 'Security'],
  ['upgrading', 'Upgrading'],
  ['lab', 'Lab'],
  ['plan-reference', 'Plan file'],
  ['kit-reference', 'Kit file'],
];
