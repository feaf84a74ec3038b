import { useRef } from 'react';
import { api, ask, queries } from '../../api/client';
import { useSession } from '../change/session';

/** Looks at targets now, from the machine that the program runs on; what was not looked at is said with its reason. */
export function useLookNow() {
  const { say } = useSession();
  const busy = useRef(false);
  return async (targets: string[]) => {
    if (busy.current) return;
    busy.current = true;
    say({ text: `Looking at ${targets.join(', ')}…` });
    try {
      const { plan, looks } = await ask(api.POST('/api/look', { body: { targets } }));
      const n = (agrees: string) => looks.filter((l) => l.agrees === agrees && l.came !== 'not-looked').length;
      const refused = plan.refused[0];
      const parts = [
        looks.length > 0 && `${n('yes')} as recorded, ${n('no')} otherwise, ${n('cannot-tell')} that cannot tell`,
        refused && `${plan.refused.length} not looked at: ${refused.target}: ${refused.why}`,
        looks.length === 0 && !refused && 'there is nothing that may be looked at',
      ].filter(Boolean);
      say({ text: `Looked from ${plan.from} (${plan.why}): ${parts.join('; ')}.`, look: n('no') > 0 });
      await Promise.all(
        ['looks', 'seen', 'suspects', 'findings', 'counts', 'dates'].map((key) =>
          queries.invalidateQueries({ queryKey: [key] }),
        ),
      );
    } catch (error) {
      say({ text: (error as Error).message, look: true });
    }
    busy.current = false;
  };
}
