// What is other than in force, while a draft is looked through: a bar at the edge of each row, as corrections are marked on a chart.
import { useMemo } from 'react';
import styled from 'styled-components';
import { api, ask, useInForce } from '../api/client';
import { size } from './theme';

/** Rows that are other than in force, by key; what they are there, or null where they are not there at all. */
export interface Altered<T> {
  marked: ReadonlyMap<string, T | null>;
  gone: T[];
}

const nothingAltered: Altered<never> = { marked: new Map(), gone: [] };

/** Holds rows against those in force; same says what of a row counts, and is all of it where not given. */
export function useAltered<T>(
  rows: T[] | undefined,
  inForce: T[] | undefined,
  key: (row: T) => string,
  same: (row: T) => unknown = (row) => row,
): Altered<T> {
  return useMemo(() => {
    if (!rows || !inForce) return nothingAltered;
    const there = new Map(inForce.map((row) => [key(row), row]));
    const marked = new Map<string, T | null>();
    for (const row of rows) {
      const k = key(row);
      const was = there.get(k);
      there.delete(k);
      if (was === undefined) marked.set(k, null);
      else if (JSON.stringify(same(was)) !== JSON.stringify(same(row))) marked.set(k, was);
    }
    return { marked, gone: [...there.values()] };
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the functions are constants of their views
  }, [rows, inForce]);
}

/** What marks a row, where it is other than in force; words says what it is there. */
export function alteredProps<T>(altered: Altered<T>, key: string, words?: (was: T) => string) {
  const was = altered.marked.get(key);
  if (was === undefined) return {};
  const text = was === null ? 'not in force' : words ? `in force: ${words(was)}` : 'other than in force';
  return { 'data-altered': text, title: text };
}

const Said = styled.small`
  color: ${(p) => p.theme.ink};
  font-size: ${size.plain};
  border-left: 3px solid ${(p) => p.theme.ink};
  padding-left: 7px;
  white-space: nowrap;
`;

/** How many rows of a view are other than in force, and which are gone. */
export function AlteredSaid<T>({ altered, name }: { altered: Altered<T>; name: (row: T) => string }) {
  const { marked, gone } = altered;
  if (marked.size + gone.length === 0) return null;
  return (
    <Said data-altered-count title={gone.length > 0 ? `gone: ${gone.slice(0, 12).map(name).join(', ')}` : undefined}>
      {marked.size} other than in force{gone.length > 0 && `, ${gone.length} gone`}
    </Said>
  );
}

/** A line without the blanks that align it with the others of its text. */
export function unaligned(line: string) {
  return line.replace(/^(\S+) +/, '$1 ');
}

/** The lines of the records as they are in force, unaligned, while a draft is looked through; undefined where none is. */
export function useLinesInForce(): ReadonlySet<string> | undefined {
  const records = useInForce(['records'], (query) => ask(api.GET('/api/records', { params: { query } })));
  return useMemo(() => records && new Set(records.text.split('\n').map(unaligned)), [records]);
}
