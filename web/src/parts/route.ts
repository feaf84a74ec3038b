// Addresses of things: every view, trace and finding has its own.
import { useCallback } from 'react';
import { useLocation, useSearch } from 'wouter';

/** A word of the query string, and how to change it. */
export function useQueryWord(key: string, fallback: string): [string, (value: string) => void] {
  const search = useSearch();
  const [location, go] = useLocation();
  const value = new URLSearchParams(search).get(key) ?? fallback;
  const set = useCallback(
    (next: string) => {
      const words = new URLSearchParams(search);
      if (next === fallback) words.delete(key);
      else words.set(key, next);
      const text = words.toString();
      go(location + (text ? `?${text}` : ''), { replace: true });
    },
    [search, location, go, key, fallback],
  );
  return [value, set];
}

/** Where one was in the table of names: the row, and the filter and all else that is in its address. */
export function tablePlace(): { row: string; search: string } {
  const [row = '', search = ''] = (sessionStorage.getItem('names') ?? '').split('\n');
  return { row, search };
}

export function keepTablePlace(row: string) {
  sessionStorage.setItem('names', `${row}\n${window.location.search}`);
}

/** A word of a path; one that is no encoding of any stands for itself. */
export function fromPath(word: string) {
  try {
    return decodeURIComponent(word);
  } catch {
    return word;
  }
}

export function traceURL(target: string, from = 'internet') {
  return `/trace/${encodeURIComponent(target)}${from === 'internet' ? '' : `?from=${encodeURIComponent(from)}`}`;
}

export function usesURL(word: string) {
  return `/uses/${encodeURIComponent(word)}`;
}

export function filterURL(name: string, line = 0) {
  return `/filters/${encodeURIComponent(name)}${line > 0 ? `?line=${line}` : ''}`;
}

export function findingURL(code: string, subject: string) {
  return `/findings/${encodeURIComponent(code)}/${encodeURIComponent(subject)}`;
}
