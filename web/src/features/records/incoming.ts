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
