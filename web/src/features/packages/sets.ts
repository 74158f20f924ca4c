/** Which of the chosen files belong together: a descriptor and what lies beside it, the parts of a split disk, a kernel and its ramdisk. */
import type { Chosen } from './imports.svelte';

const stem = (name: string) => name.replace(/\.[^.]*$/, '');

/** One list per package. A folder with a descriptor is one package; everything else is one package a file. */
export function together(files: Chosen[]): Chosen[][] {
  const descriptors = files.filter((f) => /\.ovf$/i.test(f.name));
  if (descriptors.length === 1) {
    const alone = files.filter(
      (f) =>
        /\.(ova|iso|qcow2)$/i.test(f.name) &&
        !/\.ovf$/i.test(f.name) &&
        files.length > 1 &&
        !f.name.startsWith(stem(descriptors[0]!.name)),
    );
    const set = [
      descriptors[0]!,
      ...files.filter((f) => f !== descriptors[0] && !alone.includes(f)),
    ];
    return [set, ...alone.map((f) => [f])];
  }
  const parts = files.filter((f) => /-(s|f)\d{3}\.vmdk$|-flat\.vmdk$/i.test(f.name));
  const texts = files.filter(
    (f) =>
      /\.vmdk$/i.test(f.name) &&
      !parts.includes(f) &&
      parts.some((p) => p.name.startsWith(stem(f.name))),
  );
  const kernels = files.filter((f) => /^(vmlinuz|bzimage|kernel)/i.test(f.name));
  const ramdisks = files.filter((f) => /^init(rd|ramfs)|ramdisk/i.test(f.name));
  const sets: Chosen[][] = texts.map((t) => [
    t,
    ...parts.filter((p) => p.name.startsWith(stem(t.name))),
  ]);
  if (kernels.length === 1 && ramdisks.length) sets.push([kernels[0]!, ...ramdisks]);
  const used = new Set(sets.flat());
  return [...sets, ...files.filter((f) => !used.has(f)).map((f) => [f])];
}

/** Files of a drop, folders opened (two levels are enough for any package). */
export async function dropped(data: DataTransfer): Promise<Chosen[]> {
  const entries = [...data.items]
    .map((item) => item.webkitGetAsEntry?.())
    .filter((e): e is FileSystemEntry => Boolean(e));
  if (!entries.length) return [...data.files].map((file) => ({ name: file.name, file }));
  const found: Chosen[] = [];
  async function walk(entry: FileSystemEntry, depth: number): Promise<void> {
    if (found.length >= 2000) return;
    if (entry.isFile) {
      const file = await new Promise<File>((done, fail) =>
        (entry as FileSystemFileEntry).file(done, fail),
      );
      found.push({ name: entry.fullPath.replace(/^\//, ''), file });
    } else if (depth < 2) {
      const reader = (entry as FileSystemDirectoryEntry).createReader();
      for (;;) {
        const some = await new Promise<FileSystemEntry[]>((done, fail) =>
          reader.readEntries(done, fail),
        );
        if (!some.length) break;
        for (const inner of some) await walk(inner, depth + 1);
      }
    }
  }
  for (const entry of entries) await walk(entry, 0);
  return besideDescriptor(found);
}

/** Names as a descriptor calls its files: relative to its own folder. Without one descriptor, plain names. */
function besideDescriptor(files: Chosen[]): Chosen[] {
  const descriptors = files.filter((f) => /\.ovf$/i.test(f.name));
  const home = descriptors.length === 1 ? descriptors[0]!.name.replace(/[^/]*$/, '') : null;
  return files.map(({ name, file }) => ({
    name: home !== null && name.startsWith(home) ? name.slice(home.length) : file.name,
    file,
  }));
}
