// What a change would do, asked while it is still being put together.
import { useEffect, useState } from 'react';
import { useThrough } from '../../api/through';
import { api, ask, Failure, type Effect, type Fault } from '../../api/client';

interface Previewed {
  key: string;
  effect: Effect | null;
  wrong: string;
  faults: Fault[];
}

/**
 * The effect of a change, or what is wrong with it; both empty while it is asked for, or where nothing changes. It is a change of the draft
 * that is looked through, where not said otherwise.
 */
export function usePreview(remove: string[], add: string[], of?: number) {
  const draft = useThrough();
  const [got, setGot] = useState<Previewed>({ key: '', effect: null, wrong: '', faults: [] });
  const key = JSON.stringify([remove, add]);
  useEffect(() => {
    const [out, come] = JSON.parse(key) as [string[], string[]];
    if (out.length + come.length === 0) return;
    const stop = new AbortController();
    const timer = setTimeout(async () => {
      try {
        const body = { base: 0, remove: out, add: come };
        const effect = await ask(
          api.POST('/api/preview', { params: { query: { draft: of ?? draft } }, body, signal: stop.signal }),
        );
        setGot({ key, effect, wrong: '', faults: [] });
      } catch (error) {
        if (!stop.signal.aborted) {
          const faults = (error instanceof Failure && error.problem?.faults) || [];
          setGot({ key, effect: null, wrong: (error as Error).message, faults });
        }
      }
    }, 120);
    return () => {
      clearTimeout(timer);
      stop.abort();
    };
  }, [key, of, draft]);
  return got.key === key ? got : { key, effect: null, wrong: '', faults: [] };
}
