// Files that were dropped, chosen or read, on their way to be taken over: whatever view they came to, Records shows them.
import { useSyncExternalStore } from 'react';
import type { Incoming } from './ImportPanel';

let current: Incoming | null = null;
const listeners = new Set<() => void>();

/** Hands files over to be looked through; null lets go of them. */
export function offerFiles(incoming: Incoming | null) {
  current = incoming;
  listeners.forEach((tell) => tell());
}

export function useOffered() {
  return useSyncExternalStore(
    (tell) => {
      listeners.add(tell);
      return () => listeners.delete(tell);
    },
    () => current,
  );
}

/** The most files of a folder that are read. */
const most = 400;

const archive = /\.(tar|tgz|tar\.gz|zip)$/i;

/** A file's text, or what it holds packed: that is taken apart where it is read. */
async function taken(file: File, name: string) {
  if (!archive.test(name)) return { name, text: await file.text() };
  const url = await new Promise<string>((read, failed) => {
    const reader = new FileReader();
    reader.onload = () => read(String(reader.result));
    reader.onerror = () => failed(reader.error ?? new Error('it cannot be read'));
    reader.readAsDataURL(file);
  });
  return { name, text: '', archive: url.slice(url.indexOf(',') + 1) };
}

/** The texts of files, by their names or paths; null where there are none. */
export async function readFiles(list: FileList | null): Promise<Incoming | null> {
  const all = [...(list ?? [])];
  const files = await Promise.all(all.slice(0, most).map((f) => taken(f, f.webkitRelativePath || f.name)));
  return files.length > 0 ? { files, left: all.length - files.length } : null;
}

/** The texts of what was dropped: files, and all that is in folders, by their paths in them. */
export async function readDropped(dropped: DataTransfer): Promise<Incoming | null> {
  const entries = [...dropped.items].flatMap((item) => item.webkitGetAsEntry() ?? []);
  if (!entries.some((e) => e.isDirectory)) return readFiles(dropped.files);
  const files: Incoming['files'] = [];
  let left = 0;
  const read = async (entry: FileSystemEntry): Promise<void> => {
    if (entry.isFile) {
      if (files.length >= most) {
        left++;
        return;
      }
      const file = await new Promise<File>((found, failed) => (entry as FileSystemFileEntry).file(found, failed));
      files.push(await taken(file, entry.fullPath.replace(/^\//, '')));
      return;
    }
    const reader = (entry as FileSystemDirectoryEntry).createReader();
    for (;;) {
      const some = await new Promise<FileSystemEntry[]>((found, failed) => reader.readEntries(found, failed)); // not all at once
      if (some.length === 0) return;
      for (const inner of some) await read(inner);
    }
  };
  for (const entry of entries) await read(entry);
  return files.length > 0 ? { files, left } : null;
}
