// The draft that is looked through: while there is one, every question names it, and what is written goes into it.
import { useSyncExternalStore } from 'react';

const place = 'through'; // in this page's storage: another page may look through another
let draft = Number(new URLSearchParams(window.location.search).get('draft') ?? sessionStorage.getItem(place)) || 0;
const watching = new Set<() => void>();

/** The number of the draft that is looked through; 0 where it is what is in force, and less where it is an earlier revision. */
export function through() {
  return draft;
}

/** Looks through a draft, or with 0 at what is in force. */
export function lookThrough(id: number) {
  draft = id;
  sessionStorage.setItem(place, String(id));
  for (const tell of watching) tell();
}

function watch(tell: () => void) {
  watching.add(tell);
  return () => watching.delete(tell);
}

export function useThrough() {
  return useSyncExternalStore(watch, through);
}

/** The address of something of the API that a link leads to. */
export function apiURL(path: string, query: Record<string, string>) {
  const words = new URLSearchParams(query);
  if (draft !== 0) words.set('draft', String(draft));
  return `${path}?${words}`;
}
