// Who sits here, and how one gets in.
import { useQuery } from '@tanstack/react-query';
import { api, ask, leavePage, queries, type Me } from './client';

/** A page that somebody goes on with whose name is another is another page: nothing of the one before goes under it. */
function noteName(name: string | undefined) {
  const before = sessionStorage.getItem('who');
  if (!name || name === before) return;
  if (before !== null) {
    const sent = JSON.parse(sessionStorage.getItem('sent') ?? '[]') as { text: string; key: string }[];
    const returned = JSON.parse(sessionStorage.getItem('returned') ?? '[]') as unknown[];
    const message = `Typed by ${before}, and not recorded`;
    returned.push(...sent.map(({ text, key }) => ({ id: key, text, message, clashes: [] })));
    sessionStorage.setItem('returned', JSON.stringify(returned));
    sessionStorage.removeItem('sent');
  }
  sessionStorage.setItem('who', name);
  if (before !== null && document.getElementById('bearing')) leavePage();
}

export function useMe() {
  return useQuery({
    queryKey: ['me'],
    queryFn: async (): Promise<Me> => {
      const me = await ask(api.GET('/api/me'));
      noteName(me.who?.name);
      return me;
    },
    staleTime: Infinity,
  });
}

/** Asks who sits here; where that is somebody, everything is asked anew. */
export async function recognise() {
  await queries.invalidateQueries({ queryKey: ['me'] });
  if (queries.getQueryData<Me>(['me'])?.who) {
    void queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== 'me' });
  }
}

/** What somebody may do here: everything where it is not known. */
export function useMay(role: 'editor' | 'keeper') {
  const may = { reader: 0, editor: 1, keeper: 2 };
  const me = useMe();
  return may[me.data?.who?.role ?? 'keeper'] >= may[role];
}
