// What is written into cells, held against the kind's own rules while it is typed.
import { useEffect, useState } from 'react';
import { api, ask, type WriteAnswer } from '../../api/client';

interface Written {
  kind: string;
  /** The records that are written anew; none for a new one. */
  lines: string[];
  cells: Record<string, string>;
  /** The column that is being typed. */
  offer: string;
}

/** What a fault says, and of which column. */
interface Wrong {
  column: string;
  said: string;
}

/** The change that writing is, what is wrong with it, and what the cell that is typed could hold. */
export function useWriting(written: Written) {
  const [got, setGot] = useState<{ key: string; answer: WriteAnswer | null; failed: string }>({
    key: '',
    answer: null,
    failed: '',
  });
  const key = JSON.stringify(written);
  const rest = written.lines.length > 500 ? 600 : 70; // ms; many are much to send at each key
  useEffect(() => {
    const stop = new AbortController();
    const timer = setTimeout(async () => {
      try {
        const body = JSON.parse(key) as Written;
        const answer = await ask(api.POST('/api/table/write', { body, signal: stop.signal }));
        setGot({ key, answer, failed: '' });
      } catch (error) {
        if (!stop.signal.aborted) setGot({ key, answer: null, failed: (error as Error).message });
      }
    }, rest);
    return () => {
      clearTimeout(timer);
      stop.abort();
    };
  }, [key, rest]);
  const current = got.key === key;
  const fault = current ? got.answer?.fault : undefined;
  const wrong: Wrong | null = fault
    ? {
        column: fault.column ?? '',
        said: `${fault.what}${fault.expected ? `; expected ${fault.expected}` : ''}${fault.nearest ? ` (nearest: ${fault.nearest})` : ''}`,
      }
    : current && got.failed !== ''
      ? { column: '', said: got.failed }
      : null;
  return { wrong, answer: current ? got.answer : null, offers: got.answer?.offers ?? [] };
}

/** What a field could hold, as the browser's own list under it. */
export function Offers({ id, offers }: { id: string; offers: WriteAnswer['offers'] }) {
  return (
    <datalist id={id}>
      {offers.map((o) => (
        <option key={o.text} value={o.text}>
          {o.detail}
        </option>
      ))}
    </datalist>
  );
}
