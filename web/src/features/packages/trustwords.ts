/** One line on identity and trust, the same words on the shelf and on a package's page. */
export const SIGNED: Record<string, string> = {
  verified: 'signed by a trusted publisher',
  untrusted: 'signed, publisher not trusted',
  failed: 'signature not valid',
  absent: 'not signed',
};
export const WHOLE: Record<string, string> = {
  verified: 'every listed file matches its manifest',
  failed: 'does not match its manifest',
  absent: 'no manifest',
};
export const KIND: Record<string, string> = {
  ova: 'OVA',
  ovf: 'OVF with files',
  qcow2: 'qcow2 disk',
  vmdk: 'VMDK disk',
  raw: 'raw disk',
  iso: 'installer ISO',
  kernel: 'kernel and ramdisk',
};
/** Stone marks: proved when somebody we trust signed it, done when only the manifest holds, outline when nothing vouches. */
export function mark(manifest: string, signature: string): 'proved' | 'done' | 'planned' {
  if (signature === 'verified') return 'proved';
  return manifest === 'verified' ? 'done' : 'planned';
}
