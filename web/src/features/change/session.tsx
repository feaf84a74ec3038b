// What every view may do: change the estate, take it back, say what happened; and whether the program answers.
import { createContext, useCallback, useContext, useEffect, useMemo, useRef, useState, type ReactNode } from 'react';
import { oldWords } from './EffectList';
import {
  api,
  ask,
  Failure,
  needed,
  queries,
  refresh,
  type Clash,
  type Mend,
  type Problem,
  type State,
} from '../../api/client';
import { through } from '../../api/through';
import { asChange } from '../../ui/lines';

export interface Notice {
  text: string;
  look?: boolean;
  problem?: Problem;
  /** What can be done about it. */
  act?: { label: string; run: () => void };
  /** A change of the log that could not be turned, since others touched its lines. */
  turning?: Turning;
}

/** A change of the log that is taken back, or made again. */
export interface Turning {
  revision: number;
  again: boolean;
}

/** Lines that were to be recorded and came back. */
export interface Returned {
  id: string;
  text: string;
  message: string;
  clashes: Clash[];
}

interface Session {
  notice: Notice | null;
  connected: boolean;
  /** How many changes wait for an answer. */
  waiting: number;
  returned: Returned[];
  /** Records lines as one change, after those before it; false where they are refused, and come back to `returned`. */
  record: (text: string) => Promise<boolean>;
  /** Lets go of lines that came back. */
  forget: (id: string) => void;
  say: (notice: Notice | null) => void;
  /** Makes a change; false where it is refused, or stopped before it was kept. */
  change: (mend: Mend, what: string, how?: How) => Promise<boolean>;
  undo: (revision: number) => Promise<void>;
  /** Takes back the last change, by a key; one that is large is only told of, since a key is pressed by mistake too. */
  undoLast: (large: (last: State['undo']) => void) => Promise<void>;
  /** Makes a change again: the one that was undone last, where none is named. */
  redo: (revision?: number) => Promise<void>;
}

/** How a change is made: until it is stopped, and unless something is found, in its turn, to speak against it. */
interface How {
  stop?: AbortSignal;
  unless?: () => Promise<string>;
}

const Context = createContext<Session | null>(null);

export function useSession() {
  const session = useContext(Context);
  if (!session) throw new Error('useSession outside of its provider');
  return session;
}

export function revisionNow() {
  return queries.getQueryData<State>(['state'])?.revision ?? 0;
}

/** How many lines a change may have that a key takes back. */
const mostByKey = 40;

/** Notes the revision that a change led to, and lets every view ask anew; what they show stays until they know. */
function refreshed(revision: number) {
  queries.setQueryData<State>(['state'], (s) => s && { ...s, revision });
  void refresh();
  return needed(() => queries.ensureQueryData({ queryKey: ['state'] }));
}

/** Lines on their way to the program. */
interface Sent {
  text: string;
  key: string;
  /** The draft that they were typed into; 0 for what is in force. */
  draft: number;
}

/** What this page must not lose when it is left or loaded anew. */
const kept = {
  read: <T,>(name: string): T[] => JSON.parse(sessionStorage.getItem(name) ?? '[]') as T[],
  write: (name: string, list: unknown[]) => sessionStorage.setItem(name, JSON.stringify(list)),
};

/** How long to wait before a change that nothing answered is sent again, in milliseconds. */
const sendAgain = 1500;

/** Sends a change until something answers. Its key lets the program know it again, where only the answer was lost. */
async function send({ mend, what, key, draft, stop: signal }: Making) {
  for (;;) {
    try {
      const body = { base: revisionNow(), remove: mend.remove, add: mend.add, why: what, key };
      return await ask(api.POST('/api/change', { params: { query: { draft } }, body, signal }));
    } catch (error) {
      if (signal?.aborted || !(error instanceof Failure && error.noAnswer)) throw error;
      await new Promise((resolve) => setTimeout(resolve, sendAgain));
    }
  }
}

/** A change, and what is to become of it. */
interface Making extends How {
  mend: Mend;
  what: string;
  key: string;
  draft: number;
  refused: (error: unknown) => void;
}

export function SessionProvider({ children }: { children: ReactNode }) {
  const [notice, say] = useState<Notice | null>(null);
  const [connected, setConnected] = useState(true);
  const [waiting, setWaiting] = useState(0);
  const [returned, setReturned] = useState<Returned[]>(() => kept.read<Returned>('returned'));
  const queue = useRef<Promise<unknown>>(Promise.resolve());

  const failed = useCallback((error: unknown) => {
    const failure = error instanceof Failure ? error : new Failure(String(error));
    say({ text: failure.message, look: !failure.noAnswer, problem: failure.problem });
  }, []);

  /** Says why a change of the log could not be turned; where others touched its lines, what can be made of it. */
  const notTurned = useCallback(
    (error: unknown, turning: Turning | null) => {
      if (turning && error instanceof Failure && error.problem?.clashes)
        say({ text: error.message, look: true, problem: error.problem, turning });
      else failed(error);
    },
    [failed],
  );

  /** One thing after another, in the order in which the keys were pressed. */
  const inTurn = useCallback(<T,>(act: () => Promise<T>): Promise<T> => {
    const next = queue.current.then(act);
    queue.current = next.catch(() => undefined);
    return next;
  }, []);

  /** Makes a change in its turn, and says what it did. */
  const make = useCallback(
    (making: Making) => {
      const { what, refused, draft, stop, unless } = making;
      setWaiting((n) => n + 1);
      return inTurn(async () => {
        try {
          const against = await unless?.();
          if (against) {
            say({ text: against, look: true });
            return false;
          }
          const done = await send(making);
          const effect = done.effect;
          await refreshed(done.revision);
          const words = effect?.short ?? '';
          const old = effect?.old[0];
          const seen = old ? ` ${old.name} ${old.type}: ${oldWords(old)}.` : '';
          say({
            text: `${what}${draft > 0 ? ', in the draft' : ''}.${words ? ` ${words[0]?.toUpperCase()}${words.slice(1)}.` : ''}${seen} u takes it back.`,
          });
          return true;
        } catch (error) {
          if (stop?.aborted) {
            await refresh(); // it may have been kept before the word came
            say({ text: 'Stopped.' });
          } else refused(error);
          return false;
        } finally {
          setWaiting((n) => n - 1);
        }
      });
    },
    [inTurn],
  );
  const change = useCallback(
    (mend: Mend, what: string, how?: How) =>
      make({ mend, what, refused: failed, key: crypto.randomUUID(), draft: through(), ...how }),
    [make, failed],
  );
  const record = useCallback(
    (text: string, key: string = crypto.randomUUID(), draft: number = through()) => {
      kept.write('sent', [...kept.read<Sent>('sent').filter((s) => s.key !== key), { text, key, draft }]);
      const mend = asChange(text);
      const lines = mend.remove.length + mend.add.length;
      const [gone, come] = [mend.remove[0], mend.add[0]];
      const what =
        lines === 1
          ? come !== undefined
            ? `Recorded ${come}`
            : `Took out ${gone}`
          : lines === 2 && gone !== undefined && come !== undefined
            ? `Changed to ${come}`
            : `Recorded ${lines} lines`;
      const refused = (error: unknown) => {
        const failure = error instanceof Failure ? error : new Failure(String(error));
        const fault = failure.problem?.faults?.[0];
        const message = fault
          ? `${lines > 1 ? `Line ${fault.line}: ` : ''}${fault.what}${fault.nearest ? ` (nearest: ${fault.nearest})` : fault.expected ? `; expected ${fault.expected}` : ''}`
          : failure.message;
        setReturned((list) => [
          ...list,
          { id: crypto.randomUUID(), text, message, clashes: failure.problem?.clashes ?? [] },
        ]);
      };
      return make({ mend, what, refused, key, draft }).finally(() =>
        kept.write(
          'sent',
          kept.read<Sent>('sent').filter((s) => s.key !== key),
        ),
      );
    },
    [make],
  );
  const forget = useCallback((id: string) => setReturned((list) => list.filter((r) => r.id !== id)), []);

  useEffect(() => kept.write('returned', returned), [returned]);

  // What was on its way when the page was left is sent once more; where it was kept already, its key says so.
  useEffect(() => {
    const timer = setTimeout(() => {
      for (const sent of kept.read<Sent>('sent')) void record(sent.text, sent.key, sent.draft);
    });
    return () => clearTimeout(timer);
  }, [record]);

  const turn = useCallback(
    (turning: Turning | null, request: () => Promise<{ revision: number }>, done: string) =>
      inTurn(async () => {
        try {
          const { revision } = await request();
          await refreshed(revision);
          say({ text: done });
        } catch (error) {
          notTurned(error, turning);
        }
      }),
    [inTurn, notTurned],
  );
  const undo = useCallback(
    (revision: number) =>
      turn(
        { revision, again: false },
        () => ask(api.POST('/api/undo', { body: { revision } })),
        'Taken back. U makes it again.',
      ),
    [turn],
  );
  const undoLast = useCallback(
    (large: (last: State['undo']) => void) =>
      inTurn(async () => {
        let turning: Turning | null = null;
        try {
          const { undo: last, through: draft } = await ask(api.GET('/api/state')); // what is last by now, whatever is shown yet
          if (!draft) turning = { revision: last.revision, again: false };
          if (!draft && last.lines > mostByKey) {
            large(last);
            return;
          }
          const { revision } = await ask(api.POST('/api/undo', { body: {} }));
          await refreshed(revision);
          say({ text: draft ? 'Taken back, in the draft.' : 'Taken back. U makes it again.' });
        } catch (error) {
          notTurned(error, turning);
        }
      }),
    [inTurn, notTurned],
  );
  const redo = useCallback(
    (revision?: number) =>
      turn(
        revision === undefined ? null : { revision, again: true },
        () => ask(api.POST('/api/redo', { body: { revision } })),
        'Made again.',
      ),
    [turn],
  );

  // Another's change appears without a reload; losing the connection is said, and heals by itself. Only the
  // page in sight listens: a browser has few connections to one address, and hidden pages would use them up.
  useEffect(() => {
    let events: EventSource | null = null;
    let drafts: string | null = null; // what is known of them
    const close = () => {
      events?.close();
      events = null;
    };
    const follow = () => {
      close();
      if (document.hidden) return;
      const stream = new EventSource('/api/events');
      events = stream;
      stream.addEventListener('revision', (e) => {
        setConnected((was) => {
          if (!was) void refresh(); // whatever could not be asked meanwhile
          return true;
        });
        if (Number(e.data) !== revisionNow() && queries.getQueryData(['state'])) void refresh();
      });
      stream.addEventListener('drafts', (e) => {
        if (drafts !== null && drafts !== e.data) {
          if (through() !== 0) void refresh();
          else for (const key of ['drafts', 'state']) void queries.invalidateQueries({ queryKey: [key] });
        }
        drafts = e.data as string;
      });
      // The file was lost or found again: the frame says so.
      stream.addEventListener('trouble', () => void queries.invalidateQueries({ queryKey: ['state'] }));
      stream.onerror = () => {
        setConnected(false);
        if (stream.readyState === EventSource.CLOSED && events === stream) setTimeout(follow, sendAgain);
      };
    };
    follow();
    document.addEventListener('visibilitychange', follow);
    window.addEventListener('pagehide', close);
    window.addEventListener('pageshow', follow);
    return () => {
      close();
      document.removeEventListener('visibilitychange', follow);
      window.removeEventListener('pagehide', close);
      window.removeEventListener('pageshow', follow);
    };
  }, []);

  useEffect(() => {
    if (!notice || notice.look) return;
    const timer = setTimeout(() => say(null), 9000);
    return () => clearTimeout(timer);
  }, [notice]);

  const session = useMemo(
    () => ({ notice, connected, waiting, returned, say, record, forget, change, undo, undoLast, redo }),
    [notice, connected, waiting, returned, record, forget, change, undo, undoLast, redo],
  );
  return <Context.Provider value={session}>{children}</Context.Provider>;
}
