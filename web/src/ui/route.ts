// Addresses of things: every view, trace and finding has its own.
import { useCallback, useEffect, useRef, useState } from 'react';
import { useLocation, useSearch } from 'wouter';

/** A word of the query string, and how to change it. */
export function useQueryWord(key: string, fallback: string): [string, (value: string) => void] {
  const search = useSearch();
  const [, go] = useLocation();
  const value = new URLSearchParams(search).get(key) ?? fallback;
  const set = useCallback(
    (next: string) => {
      const words = new URLSearchParams(window.location.search); // as it is by now: two may change at once
      if (next === fallback) words.delete(key);
      else words.set(key, next);
      const text = words.toString();
      go(window.location.pathname + (text ? `?${text}` : ''), { replace: true });
    },
    [go, key, fallback],
  );
  return [value, set];
}

/** How long a choice rests before its address is kept, in milliseconds. */
const rest = 200;

/**
 * A choice out of many that stands in the page's address. It moves at once; the address follows when it rests, or when
 * it is settled, as it is before one goes elsewhere. Once elsewhere it is kept no more: a view waits, hidden, while the
 * next is loaded.
 */
export function useChosen(inAddress: string, keep: (chosen: string) => void) {
  const [state, setState] = useState({ inAddress, chosen: inAddress });
  if (state.inAddress !== inAddress) setState({ inAddress, chosen: inAddress });
  const { chosen } = state;
  const choose = useCallback((next: string) => setState((s) => ({ ...s, chosen: next })), []);
  const latest = useRef(() => {});
  useEffect(() => {
    latest.current = () => {
      if (chosen !== inAddress) keep(chosen);
    };
  });
  useEffect(() => {
    const here = window.location.pathname;
    const timer = setTimeout(() => {
      if (window.location.pathname === here) latest.current();
    }, rest);
    return () => clearTimeout(timer);
  }, [chosen]);
  const settle = useCallback(() => latest.current(), []);
  return { chosen, choose, settle };
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

/** Two traces side by side; what is not said of the other is as it is for the first. */
export function compareURL(
  target: string,
  sides: { from: string; other?: string; otherFrom?: string; revision?: string; draft?: number },
) {
  const query = new URLSearchParams();
  if (sides.from !== 'internet') query.set('from', sides.from);
  if (sides.other && sides.other !== target) query.set('other', sides.other);
  if (sides.otherFrom) query.set('otherfrom', sides.otherFrom);
  if (sides.revision) query.set('revision', sides.revision);
  if (sides.draft) query.set('with', String(sides.draft));
  const asked = query.toString();
  return `/compare/${encodeURIComponent(target)}${asked && `?${asked}`}`;
}

export function usesURL(word: string) {
  return `/uses/${encodeURIComponent(word)}`;
}

/** What becomes of the names without a part of the estate; of a name, what it stands on. */
export function withoutURL(word: string, as: { kind?: string; from?: string } = {}) {
  const query = new URLSearchParams();
  if (as.kind) query.set('kind', as.kind);
  if (as.from && as.from !== 'internet') query.set('from', as.from);
  const asked = query.toString();
  return `/without/${encodeURIComponent(word)}${asked && `?${asked}`}`;
}

/** What a sentence comes to: to publish something, or to retire it. */
export function planURL(sentence: string) {
  return `/drafts?ask=${encodeURIComponent(sentence)}`;
}

export function filterURL(name: string, line = 0) {
  return `/filters/${encodeURIComponent(name)}${line > 0 ? `?line=${line}` : ''}`;
}

export function findingURL(code: string, subject: string) {
  return `/findings/${encodeURIComponent(code)}/${encodeURIComponent(subject)}`;
}
