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

/** The texts of files, by their names or paths; null where there are none. */
export async function readFiles(list: FileList | null): Promise<Incoming | null> {
  const files = await Promise.all(
    [...(list ?? [])].map(async (f) => ({ name: f.webkitRelativePath || f.name, text: await f.text() })),
  );
  return files.length > 0 ? { files } : null;
}

/** The most files of a folder that are read. */
const most = 400;

/** The texts of what was dropped: files, and all that is in folders, by their paths in them. */
export async function readDropped(dropped: DataTransfer): Promise<Incoming | null> {
  const entries = [...dropped.items].flatMap((item) => item.webkitGetAsEntry() ?? []);
  if (!entries.some((e) => e.isDirectory)) return readFiles(dropped.files);
  const files: { name: string; text: string }[] = [];
  const read = async (entry: FileSystemEntry): Promise<void> => {
    if (files.length >= most) return;
    if (entry.isFile) {
      const file = await new Promise<File>((found, failed) => (entry as FileSystemFileEntry).file(found, failed));
      files.push({ name: entry.fullPath.replace(/^\//, ''), text: await file.text() });
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
  return files.length > 0 ? { files } : null;
}
